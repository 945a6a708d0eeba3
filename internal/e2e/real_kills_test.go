package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/lab"
)

// place is a copy on a host, and who says from outside whether it is right.
type place struct {
	account, host, path, unit string
	value                     *regexp.Regexp
	accepts                   func(password string) bool
}

// enters runs a client that we did not write, which signs in or does not.
func enters(environment []string, command string, args ...string) bool {
	cmd := exec.Command(command, args...)
	cmd.Env = append(os.Environ(), environment...)
	return cmd.Run() == nil
}

// addStores adds three data stores, with a program or a copy of each on a host.
func (r *real) addStores(t *testing.T) []place {
	pg, maria, redis := lab.PostgreSQL(t, lab.Gateway, 55449), lab.MariaDB(t, lab.Gateway, 53379), lab.Redis(t, lab.Gateway, 56379)
	first := map[string]string{"pg": "Harbour-Post-7711", "maria": "Harbour-Maria-7722", "redis": "Harbour-Cache-7733"}
	pg.Run(t, "ALTER ROLE svc_berth1 PASSWORD '"+first["pg"]+"'")
	maria.Run(t, "alter user svc_berth1@'%' identified by '"+first["maria"]+"'")
	redis.Run(t, "ACL SETUSER svc_berth1 resetpass >"+first["redis"]+"\nACL SAVE")
	program := func(host, name, kind string, port int) {
		h := r.hosts[host]
		h.Write(t, "/srv/"+name+"/settings.json", fmt.Sprintf("{\"kind\": %q, \"address\": \"%s:%d\", \"database\": \"bookings\", \"user\": \"svc_berth1\", \"password\": %q}\n", kind, lab.Gateway, port, first[name]), 0o640)
		h.Shell(t, "chown root:berth /srv/"+name+"/settings.json")
		h.Write(t, "/etc/systemd/system/"+name+"-app.service", "[Service]\nUser=berth\nWorkingDirectory=/srv/"+name+"\nExecStart=/usr/local/bin/fixture\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	}
	program("bookings1", "pg", "postgres", 55449)
	program("tide1", "maria", "mariadb", 53379)
	quay := r.hosts["quay2"]
	quay.Write(t, "/etc/cache/cache.env", "CACHE_USER=svc_berth1\nCACHE_PASSWORD="+first["redis"]+"\n", 0o640)
	quay.Write(t, "/etc/systemd/system/redis-app.service", "[Service]\nEnvironmentFile=/etc/cache/cache.env\nExecStart=/bin/sleep infinity\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	for host, unit := range map[string]string{"bookings1": "pg-app", "tide1": "maria-app", "quay2": "redis-app"} {
		r.hosts[host].Shell(t, "systemctl daemon-reload && systemctl -q enable --now "+unit+".service")
	}
	r.moss(0, "steward", "add", "stores", "--account", "mossmgr", "--password-file", r.File("manager.pw"))
	for name, d := range map[string]*lab.DataStore{"pg": pg, "maria": maria, "redis": redis} {
		args := []string{"system", "add", name, "--kind", string(d.Kind), "--address", lab.Gateway, "--port", strconv.Itoa(d.Port), "--steward", "stores", "--ca-file", r.file(name+".pem", d.CA)}
		for option, setting := range d.Options {
			args = append(args, "--option", option+"="+setting)
		}
		r.moss(0, args...)
	}
	r.moss(3, "survey", "run")
	for name, password := range first {
		r.moss(0, "custody", "take", name+"/svc_berth1", "--password-file", r.file(name+".pw", password))
	}
	r.moss(3, "survey", "run")
	settings := regexp.MustCompile(`"password": "([^"]+)"`)
	at, port := lab.Gateway, strconv.Itoa
	return []place{
		{"pg/svc_berth1", "bookings1", "/srv/pg/settings.json", "pg-app.service", settings, func(password string) bool {
			return enters([]string{"PGPASSWORD=" + password}, "psql", "-XAtq", "-h", at, "-p", port(55449), "-U", "svc_berth1", "-d", "bookings", "-c", "select 1")
		}},
		{"maria/svc_berth1", "tide1", "/srv/maria/settings.json", "maria-app.service", settings, func(password string) bool {
			return enters([]string{"MYSQL_PWD=" + password}, "mariadb", "--no-defaults", "-h", at, "-P", port(53379), "-u", "svc_berth1", "-e", "select 1", "bookings")
		}},
		{"redis/svc_berth1", "quay2", "/etc/cache/cache.env", "redis-app.service", regexp.MustCompile(`CACHE_PASSWORD='?([^'\n]+)`), func(password string) bool {
			return enters([]string{"REDISCLI_AUTH=" + password}, "redis-cli", "-e", "-h", at, "-p", port(56379), "--tls", "--cacert", r.File("redis.pem"), "--user", "svc_berth1", "--no-auth-warning", "PING")
		}},
		{"domain/svc-berth", "quay1", "/etc/berth/berth.env", "gangway.service", regexp.MustCompile(`LDAP_BIND_PASSWORD='([^']+)'`), func(password string) bool { return r.accepts("svc-berth", password) }},
		{"domain/svc-tidefeed", "tide1", "/etc/tide/feed.pw", "tidefeed.service", regexp.MustCompile(`^(\S+)`), func(password string) bool { return r.accepts("svc-tidefeed", password) }},
	}
}

// killedAnywhere: the service is killed at random instants of rotations on every kind of
// system, some a second time as it comes up again. Each ends by itself, and what stands on
// the host is what the authority accepts, as its own client says. MOSS_KILLS says how many.
func (r *real) killedAnywhere(t *testing.T) {
	ctx, n := context.Background(), 5
	if text := os.Getenv("MOSS_KILLS"); text != "" {
		var err error
		n, err = strconv.Atoi(text)
		require.NoError(t, err)
	}
	require.NoError(t, r.StopService(syscall.SIGTERM))
	require.NoError(t, r.StartService(ctx, 0))
	places := r.addStores(t)
	for _, p := range places {
		require.False(t, p.accepts("Not-This-One-1234"), "%s: its client tells a wrong password", p.account)
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	began, kills, interrupted := time.Now(), 0, 0
	kill := func(within time.Duration) {
		<-time.After(time.Duration(random.Int64N(int64(within))))
		require.NoError(t, r.StopService(syscall.SIGKILL))
		require.NoError(t, r.StartService(ctx, 0))
		kills++
	}
	for i := range n {
		p := places[i%len(places)]
		r.moss(0, "rotate", "rehearse", p.account)
		before := r.rows("rotate", "list", "--limit", "1")[0]["id"]
		out, code, err := r.Moss(ctx, "rotate", "run", p.account, "--reason", "killed somewhere", "--detach")
		require.NoError(t, err)
		require.Equal(t, 0, code, out)
		kill(3 * time.Second)
		if random.IntN(3) == 0 {
			kill(time.Second)
		}
		row := r.rows("rotate", "list", "--limit", "1")[0]
		id := fmt.Sprint(row["id"])
		require.NotEqual(t, before, row["id"], "it had begun")
		if row["mode"] != "finished" {
			interrupted++
		}
		require.Equal(t, "done", r.waitFinished(id), "%s\n%s", p.account, r.moss(0, "rotate", "show", id, "--journal"))
		found := p.value.FindStringSubmatch(r.read(p.host, p.path))
		require.Len(t, found, 2, p.account)
		require.True(t, p.accepts(found[1]), "%s: what stands on %s is what is accepted\n%s", p.account, p.host, r.moss(0, "rotate", "show", id, "--journal"))
		r.invocation(p.host, p.unit)
		r.moss(0, "custody", "verify", p.account)
	}
	t.Logf("%d rotations, %d kills, %d not finished when the service was up again; %s", n, kills, interrupted, time.Since(began).Round(time.Second))
	for name, h := range r.hosts {
		assert.Empty(t, strings.TrimSpace(h.Shell(t, "find / -xdev -name '*.moss-new' 2>/dev/null || true")), name)
	}
}
