package assembly_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/connect/postgres"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
	"mossledger.example/moss/internal/records"
)

// watched signs in again and again with what a file says, as a program does that makes a new
// connection for each question.
type watched struct {
	tried, refused atomic.Int64
	late           atomic.Int64 // a busy machine did not come to the handshake in time: nothing was asked yet
	last           atomic.Value
}

func (w *watched) watch(t *testing.T, stop chan struct{}, try func() (connect.Verdict, error)) {
	for {
		select {
		case <-stop:
			return
		default:
		}
		verdict, err := try()
		w.tried.Add(1)
		var f *connect.Failure
		switch {
		case errors.As(err, &f) && f.Code != connect.CodeUntrusted && (f.Stage == connect.StageConnect || f.Stage == connect.StageSecure):
			w.late.Add(1)
		case err != nil || !verdict.Accepted:
			w.refused.Add(1)
			w.last.Store(fmt.Sprint(verdict.Words, err))
		}
	}
}

// TestRealTurns: on a real host one program keeps a session with a real PostgreSQL server and
// another one has an account of a real directory in its environment; for each two accounts
// take turns, three times. Somebody who signs in all the time with what the files say is never refused; what
// a session makes belongs to both roles; both end with what is in force.
func TestRealTurns(t *testing.T) {
	if testing.Short() {
		lab.LeaveOut(t, "a real system: not where the race detector looks")
	}
	lab.Require(t)
	program := lab.Program(t)

	h := lab.NewHost(t, "turns1", 47)
	h.Write(t, "/usr/local/bin/fixture", program, 0o755)
	samba := lab.Samba(t, "127.0.0.93", "svc-berth2") // at the hosts' own address there is one of another test
	samba.PermitTurns(t)
	plain := lab.OpenLDAPWith(t, "127.0.0.97", 636, lab.Person("svc-gauge", "default", ""), lab.Person("svc-gauge2", "default", ""),
		"dn: cn=gauges,ou=groups,dc=larkmoor,dc=example\nobjectClass: groupOfNames\ncn: gauges\nmember: uid=svc-gauge,ou=services,dc=larkmoor,dc=example\n\n")
	const settings, env, gauge = "/srv/fares/settings.json", "/etc/berth/berth.env", "/etc/gauge/gauge.env"
	h.Shell(t, "useradd -r -s /usr/sbin/nologin books")
	h.Write(t, settings, fmt.Sprintf("{\"kind\": \"postgres\", \"address\": \"%s:55447\", \"database\": \"bookings\", \"user\": \"svc_berth1\", \"password\": %q}\n", lab.Gateway, lab.AccountPassword), 0o640)
	h.Write(t, env, fmt.Sprintf("LDAP_BIND_DN='%s'\nLDAP_BIND_PASSWORD=%s\n", samba.DN("svc-berth"), lab.AccountPassword), 0o640)
	h.Write(t, gauge, fmt.Sprintf("GAUGE_BIND_DN=uid=svc-gauge,ou=services,dc=larkmoor,dc=example\nGAUGE_BIND_PASSWORD=%s\n", lab.AccountPassword), 0o640)
	h.Shell(t, "chown root:books "+settings+" "+env+" "+gauge)
	for unit, more := range map[string]string{"gauge": "EnvironmentFile=" + gauge + "\nExecStart=/bin/sleep infinity\n", "fares": "Environment=LISTEN=:0\nWorkingDirectory=/srv/fares\nExecStart=/usr/local/bin/fixture\n", "berth": "EnvironmentFile=" + env + "\nExecStart=/bin/sleep infinity\n"} {
		h.Write(t, "/etc/systemd/system/"+unit+".service", "[Service]\nUser=books\n"+more+"Restart=no\n[Install]\nWantedBy=multi-user.target\n", 0o644)
		h.Shell(t, "systemctl -q enable "+unit+".service")
	}
	pg := lab.PostgreSQL(t, lab.Gateway, 55447)
	pg.Run(t, "CREATE ROLE svc_berth2 LOGIN PASSWORD '"+lab.AccountPassword+"2'; ALTER ROLE svc_berth1 SET role = 'berth_owner'; GRANT CREATE ON SCHEMA public TO berth_owner")
	h.Boot(t)

	ctx := t.Context()
	f := empty(t)
	require.NoError(t, f.Inventory.SaveSteward(ctx, ines, "host", "mossmgr", secret.Value{}, h.Key))
	require.NoError(t, f.Inventory.SaveSteward(ctx, ines, "stores", "mossmgr", secret.New(lab.ManagerPassword), secret.Value{}))
	require.NoError(t, f.Inventory.SaveSteward(ctx, ines, "plain", plain.Manager, secret.New(lab.ManagerPassword), secret.Value{}))
	f.realDirectory(samba, nil)
	for _, v := range []records.System{
		{Name: "turns1", Kind: "unix-host", Address: h.Address, Port: 22, Steward: "host"},
		{Name: "pg", Kind: "postgresql", Address: lab.Gateway, Port: 55447, Steward: "stores", TrustedCA: pg.CA},
		{Name: "plain", Kind: "directory", Address: plain.Address, Port: plain.Port, Steward: "plain", TrustedCA: plain.CA},
	} {
		_, err := f.Inventory.Add(ctx, ines, v)
		require.NoError(t, err)
	}
	_, report, err := f.Inventory.Check(ctx, ines, "turns1", h.Fingerprint())
	require.NoError(t, err)
	require.True(t, report.OK())
	active := func(unit string) bool {
		return strings.TrimSpace(h.Shell(t, "systemctl is-active "+unit+" || true")) == "active"
	}
	require.Eventually(t, func() bool { return active("fares") && active("berth") && active("gauge") }, 20*time.Second, 200*time.Millisecond)
	f.survey()
	for name, password := range map[string]string{"pg/svc_berth1": lab.AccountPassword, "pg/svc_berth2": lab.AccountPassword + "2", "dir/svc-berth": lab.AccountPassword, "dir/svc-berth2": lab.AccountPassword, "plain/svc-gauge": lab.AccountPassword, "plain/svc-gauge2": lab.AccountPassword} {
		_, err := f.Custody.Take(ctx, ines, cred(f, f.account(name)), secret.New(password))
		require.NoError(t, err)
	}
	// The two of a directory have one password, and a copy of it does not say whose it is.
	for _, name := range []string{"dir/svc-berth2", "plain/svc-gauge2"} {
		require.NoError(t, f.Custody.Release(ctx, ines, "one password for two", cred(f, f.account(name))))
		require.NoError(t, f.Custody.Reset(ctx, ines, "one password for two", cred(f, f.account(name))))
	}
	f.survey()

	read := func(path string) string {
		raw, err := os.ReadFile(h.Root + path)
		require.NoError(t, err)
		return string(raw)
	}
	stop := make(chan struct{})
	var all sync.WaitGroup
	var store, binds, gauges watched
	all.Add(3)
	go func() {
		defer all.Done()
		store.watch(t, stop, func() (connect.Verdict, error) {
			var in struct{ User, Password string }
			if err := json.Unmarshal([]byte(read(settings)), &in); err != nil {
				return connect.Verdict{}, err
			}
			return postgres.Connector{}.Verify(ctx, pg.Target("pg"), connect.AccountRef{Name: in.User}, secret.New(in.Password))
		})
	}()
	accounts := map[string]connect.AccountRef{}
	for _, name := range []string{"dir/svc-berth", "dir/svc-berth2", "plain/svc-gauge", "plain/svc-gauge2"} {
		a := f.account(name)
		accounts[a.DN] = connect.AccountRef{StableID: a.StableID, Name: a.Name, DN: a.DN}
	}
	bind := func(w *watched, path string, target connect.Target) {
		defer all.Done()
		w.watch(t, stop, func() (connect.Verdict, error) {
			dn, password := "", ""
			for line := range strings.Lines(read(path)) {
				if _, v, found := strings.Cut(line, "_BIND_DN="); found {
					dn = strings.Trim(strings.TrimSpace(v), `'"`)
				}
				if _, v, found := strings.Cut(line, "_BIND_PASSWORD="); found {
					password = strings.Trim(strings.TrimSpace(v), `'"`)
				}
			}
			return directory.Connector{}.Verify(ctx, target, accounts[dn], secret.New(password))
		})
	}
	go bind(&binds, env, samba.Target("dir"))
	go bind(&gauges, gauge, plain.Target("plain"))
	defer func() {
		select {
		case <-stop:
		default: // it failed
			close(stop)
			all.Wait()
		}
	}()
	for _, pair := range [][2]string{{"pg/svc_berth1", "pg/svc_berth2"}, {"dir/svc-berth", "dir/svc-berth2"}, {"plain/svc-gauge", "plain/svc-gauge2"}} {
		_, err := f.Tandems.Add(ctx, ines, cred(f, f.account(pair[0])), cred(f, f.account(pair[1])), "")
		require.NoError(t, err)
		for turn := range 3 {
			was, next := f.account(pair[turn%2]), f.account(pair[(turn+1)%2])
			r := f.rotate(was, rotation.UndoOnFailure)
			require.Equal(t, rotation.FinishedDone, r.Result)
			require.NotNil(t, r.Plan.Turn, "%+v", r.Plan.Notes)
			f.quiet()
			is, err := f.Store.TandemOf(ctx, cred(f, next).ID)
			require.NoError(t, err)
			assert.Equal(t, [2]string{next.Name, records.TandemRests}, [2]string{is.Working.Account, is.State})
			rests, err := f.Store.Account(ctx, was.ID)
			require.NoError(t, err)
			assert.True(t, rests.Gone.IsZero(), "what rests is not gone")
			if next.System == "pg" { // a session of each makes something, which the other one removes
				pg.Run(t, fmt.Sprintf("SET SESSION AUTHORIZATION %s; SET ROLE berth_owner; DROP TABLE IF EXISTS turn; CREATE TABLE turn (n int)", next.Name))
				assert.Equal(t, "berth_owner", strings.TrimSpace(pg.Run(t, "SELECT s.setconfig[1] FROM pg_db_role_setting s WHERE s.setrole = '"+next.Name+"'::regrole"))[len("role="):])
			}
		}
	}
	assert.Empty(t, f.findings("account-disabled"), "who was seen signed in before its turn ended uses it no more")
	close(stop)
	all.Wait()
	t.Logf("signed in %d times to the data store, %d and %d times to the directories", store.tried.Load(), binds.tried.Load(), gauges.tried.Load())
	assert.Zero(t, store.refused.Load(), "of %d: %v", store.tried.Load(), store.last.Load())
	assert.Zero(t, binds.refused.Load(), "of %d: %v", binds.tried.Load(), binds.last.Load())
	assert.Greater(t, store.tried.Load(), int64(100))
	for _, w := range []*watched{&store, &binds, &gauges} {
		assert.LessOrEqual(t, w.late.Load(), 1+w.tried.Load()/200, "of %d", w.tried.Load())
	}
	assert.Zero(t, gauges.refused.Load(), "of %d: %v", gauges.tried.Load(), gauges.last.Load())
	assert.True(t, active("fares") && active("berth") && active("gauge"))
	// As the directory's own client says: who works is in the group and may bind, and who
	// rests may not, by a lock that nothing but a person or the next turn takes away.
	assert.Contains(t, read(gauge), "uid=svc-gauge2,ou=services")
	assert.Equal(t, "000001010000Z", lab.Attribute(t, plain, "uid=svc-gauge,ou=services,dc=larkmoor,dc=example", "pwdAccountLockedTime"))
	assert.Empty(t, lab.Attribute(t, plain, "uid=svc-gauge2,ou=services,dc=larkmoor,dc=example", "pwdAccountLockedTime"))
	assert.Equal(t, []string{"cn=gauges,ou=groups,dc=larkmoor,dc=example"}, f.account("plain/svc-gauge2").Groups)
	assert.Contains(t, read(settings), "svc_berth2")
	assert.Contains(t, read(env), "LDAP_BIND_DN='"+samba.DN("svc-berth2")+"'")
	assert.NotContains(t, pg.Log(t), lab.AccountPassword+"2\"")
}
