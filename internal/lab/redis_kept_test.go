package lab_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/redis"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// passes says whether a rehearsal of changing svc_berth1 finds nothing wrong, and all
// that it found.
func passes(t *testing.T, target connect.Target) (bool, string) {
	t.Helper()
	lines := redis.Connector{}.Rehearse(t.Context(), target, []connect.Intention{{Change: &connect.AccountRef{StableID: "user:svc_berth1", Name: "svc_berth1"}}})
	ok, all := true, ""
	for _, l := range lines {
		ok = ok && l.Result == connect.CheckOK
		all += fmt.Sprintf("%s: %s %s (%s)\n", l.What, l.Result, l.Words, l.Next)
	}
	return ok, all
}

// refusesAndKeeps: the change is refused for certain, and the old value alone is still
// accepted, by the server that runs and by its file.
func refusesAndKeeps(t *testing.T, target connect.Target) error {
	t.Helper()
	ref := connect.AccountRef{StableID: "user:svc_berth1", Name: "svc_berth1"}
	err := connect.SetPassword(t.Context(), redis.Connector{}, target, ref, secret.New("Fresh-Passw0rd.1"))
	require.Error(t, err)
	assert.False(t, connect.IsUnclear(err), "%v", err)
	is, probing := redis.Connector{}.Probe(t.Context(), target, connect.Point{Account: ref}, connect.Values{Old: secret.New(lab.AccountPassword), New: secret.New("Fresh-Passw0rd.1")})
	require.NoError(t, probing)
	assert.Equal(t, [2]connect.Answer{connect.AnswerYes, connect.AnswerNo}, [2]connect.Answer{is.Old, is.New})
	return err
}

// A change that a restart of the server takes back is no success.
func TestRedisKeepsOrRefuses(t *testing.T) {
	forgetful := lab.ForgetfulRedis(t, "127.0.0.81", 56381)
	ok, found := passes(t, forgetful.Target("db"))
	assert.False(t, ok, found)
	assert.Contains(t, found, "config file")
	assert.ErrorContains(t, refusesAndKeeps(t, forgetful.Target("db")), "config file")

	kept := lab.Redis(t, "127.0.0.82", 56382)
	ok, found = passes(t, kept.Target("db"))
	assert.True(t, ok, found)
	// Its folder can no longer be written: the lists are replaced by renaming there.
	require.NoError(t, os.Chown(kept.Folder(), 0, 0))
	require.NoError(t, os.Chmod(kept.Folder(), 0o755))
	before, err := os.ReadFile(filepath.Join(kept.Folder(), "users.acl"))
	require.NoError(t, err)
	refusesAndKeeps(t, kept.Target("db"))
	after, err := os.ReadFile(filepath.Join(kept.Folder(), "users.acl"))
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))

	// A steward who may not save the lists: the configuration has none of them, so that
	// writing it anew keeps nothing.
	narrow := lab.Redis(t, "127.0.0.83", 56383)
	narrow.Run(t, "ACL SETUSER mossmgr -acl|save")
	ok, found = passes(t, narrow.Target("db"))
	assert.False(t, ok, found)
	assert.ErrorContains(t, refusesAndKeeps(t, narrow.Target("db")), "acl|save")
	// Nor one who may not set: DRYRUN answers that with words, not with an error.
	narrow.Run(t, "ACL SETUSER mossmgr +acl|save -acl|setuser")
	ok, found = passes(t, narrow.Target("db"))
	assert.False(t, ok, found)
	assert.Contains(t, found, "no permissions")
}

// The connection was lost between the change and its keeping: it is in force, and gone
// with the next restart. Finding that out keeps it, or finds nothing out.
func TestRedisKeepsWhatWasCutOff(t *testing.T) {
	ref := connect.AccountRef{StableID: "user:svc_berth1", Name: "svc_berth1"}
	values := connect.Values{Old: secret.New(lab.AccountPassword), New: secret.New("Fresh-Passw0rd.1")}
	d := lab.Redis(t, "127.0.0.86", 56386)
	d.Run(t, "ACL SETUSER svc_berth1 resetpass >Fresh-Passw0rd.1")
	is, err := redis.Connector{}.Probe(t.Context(), d.Target("db"), connect.Point{Account: ref}, values)
	require.NoError(t, err)
	assert.Equal(t, connect.AnswerYes, is.New)
	d.Run(t, "ACL LOAD") // as at the next start
	is, err = redis.Connector{}.Probe(t.Context(), d.Target("db"), connect.Point{Account: ref}, values)
	require.NoError(t, err)
	assert.Equal(t, [2]connect.Answer{connect.AnswerNo, connect.AnswerYes}, [2]connect.Answer{is.Old, is.New})

	forgetful := lab.ForgetfulRedis(t, "127.0.0.87", 56387)
	forgetful.Run(t, "ACL SETUSER svc_berth1 resetpass >Fresh-Passw0rd.1")
	is, err = redis.Connector{}.Probe(t.Context(), forgetful.Target("db"), connect.Point{Account: ref}, values)
	require.Error(t, err, "%+v", is)
	assert.ErrorContains(t, err, "would be lost when the server restarts")
}

// Access lists are not replicated: each node has its own, and one that was left out
// refuses the new password the moment it takes over.
func TestRedisWithReplicas(t *testing.T) {
	primary := lab.Redis(t, "127.0.0.84", 56384)
	ok, found := passes(t, primary.Target("db"))
	require.True(t, ok, found)
	replica := lab.Redis(t, "127.0.0.85", 56385, "--tls-replication", "yes", "--tls-ca-cert-file", filepath.Join(primary.Folder(), "ca", "ca.pem"), "--replicaof", primary.Address, fmt.Sprint(primary.Port), "--masteruser", "root", "--masterauth", "x")
	require.Eventually(t, func() bool { return strings.Contains(primary.Run(t, "INFO replication"), "connected_slaves:1") }, 20*time.Second, 50*time.Millisecond, replica.Log(t))
	ok, found = passes(t, primary.Target("db"))
	assert.False(t, ok, found)
	assert.Contains(t, found, "1 replica")
	ok, found = passes(t, replica.Target("db"))
	assert.False(t, ok, found)
	assert.Contains(t, found, "replica of")
}

// A Sentinel that signs in with the account would take the server for dead. With two
// replicas and a Sentinel, as estates have them, nothing passes.
func TestRedisWithSentinel(t *testing.T) {
	primary := lab.Redis(t, "127.0.0.89", 56389)
	watched := primary.Target("db")
	lab.Sentinel(t, primary, "127.0.0.90", 56390, "svc_berth1", lab.AccountPassword)
	require.Eventually(t, func() bool { return strings.Contains(primary.Run(t, "CLIENT LIST"), "name=sentinel-") }, 20*time.Second, 50*time.Millisecond)
	ok, found := passes(t, watched)
	assert.False(t, ok, found)
	assert.Contains(t, found, "the Sentinel at 127.0.0.")
	for i, address := range []string{"127.0.0.91", "127.0.0.92"} {
		lab.Redis(t, address, 56391+i, "--tls-replication", "yes", "--tls-ca-cert-file", filepath.Join(primary.Folder(), "ca", "ca.pem"), "--replicaof", primary.Address, fmt.Sprint(primary.Port), "--masteruser", "root", "--masterauth", "x")
	}
	require.Eventually(t, func() bool { return strings.Contains(primary.Run(t, "INFO replication"), "connected_slaves:2") }, 20*time.Second, 50*time.Millisecond)
	ok, found = passes(t, watched)
	assert.False(t, ok, found)
	assert.Contains(t, found, "2 replicas")
}

// One that has an account of its own does not mind.
func TestRedisWithASentinelOfItsOwn(t *testing.T) {
	primary := lab.Redis(t, "127.0.0.93", 56393)
	lab.Sentinel(t, primary, "127.0.0.94", 56394, "root", "x")
	require.Eventually(t, func() bool { return strings.Contains(primary.Run(t, "CLIENT LIST"), "name=sentinel-") }, 20*time.Second, 50*time.Millisecond)
	ok, found := passes(t, primary.Target("db"))
	assert.True(t, ok, found)
}
