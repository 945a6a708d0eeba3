package lab

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

// DataStore is a running data store, with a narrow steward mossmgr.
type DataStore struct {
	Kind    estate.Kind
	Address string
	Port    int
	CA      string
	Options map[string]string
	folder  string
	client  func(t testing.TB, statements string) string
}

// Target reaches it with the narrow steward.
func (d *DataStore) Target(name string) connect.Target {
	return connect.Target{
		SystemID: name, Name: name, Kind: d.Kind, Address: d.Address, Port: d.Port, TrustedCA: d.CA, Options: d.Options,
		Steward: connect.Steward{Account: "mossmgr", Password: secret.New(ManagerPassword)},
	}
}

// Run runs statements as the data store's own administrator.
func (d *DataStore) Run(t testing.TB, statements string) string {
	t.Helper()
	return d.client(t, statements)
}

// Log is what the server wrote so far.
func (d *DataStore) Log(t testing.TB) string {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join(d.folder, "log"))
	require.NoError(t, err)
	return string(raw)
}

// as gives a command to an unprivileged user: these servers refuse root.
func as(t testing.TB, name string, cmd *exec.Cmd) (uid, gid int) {
	t.Helper()
	u, err := user.Lookup(name)
	require.NoError(t, err)
	uid, err = strconv.Atoi(u.Uid)
	require.NoError(t, err)
	gid, err = strconv.Atoi(u.Gid)
	require.NoError(t, err)
	if cmd != nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, Pdeathsig: syscall.SIGKILL}
	}
	return uid, gid
}

// begin starts a server as a user, in its folder, and waits until it listens.
func (d *DataStore) begin(t testing.TB, name, command string, args ...string) {
	t.Helper()
	cmd := exec.Command(command, args...)
	as(t, name, cmd)
	log, err := os.OpenFile(filepath.Join(d.folder, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	cmd.Dir, cmd.Stdout, cmd.Stderr = d.folder, log, log
	cmd.Env = []string{"LC_ALL=C.UTF-8", "TZ=UTC", "PATH=/usr/bin:/bin:/usr/sbin:/sbin"}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill() // nothing of it is kept
		_ = cmd.Wait()
		_ = log.Close()
	})
	deadline := time.Now().Add(60 * time.Second)
	for {
		conn, err := net.DialTimeout("tcp", net.JoinHostPort(d.Address, strconv.Itoa(d.Port)), time.Second)
		if err == nil {
			_ = conn.Close()
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("%s does not listen: %s", command, d.Log(t))
		}
		<-time.After(50 * time.Millisecond)
	}
}

func (d *DataStore) prepare(t testing.TB, name string) {
	t.Helper()
	Require(t)
	var err error
	d.folder, err = os.MkdirTemp("", "moss-store-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(d.folder) })
	authority, err := newAuthority(context.Background(), filepath.Join(d.folder, "ca"))
	require.NoError(t, err)
	d.CA = authority.PEM
	require.NoError(t, authority.issue(context.Background(), filepath.Join(d.folder, "tls"), "db.larkmoor.example", d.Address))
	uid, gid := as(t, name, nil)
	require.NoError(t, filepath.Walk(d.folder, func(path string, _ os.FileInfo, err error) error {
		if err != nil {
			return err
		}
		return os.Chown(path, uid, gid)
	}))
}

// PostgreSQL starts one. svc_berth1 is a log-in role with AccountPassword; the
// log-on mossmgr has CREATEROLE and pg_read_all_stats.
func PostgreSQL(t testing.TB, address string, port int) *DataStore {
	t.Helper()
	d := &DataStore{Kind: estate.KindPostgreSQL, Address: address, Port: port}
	d.prepare(t, "postgres")
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	require.NoError(t, err)
	require.NotEmpty(t, found)
	bin := filepath.Dir(found[len(found)-1])
	require.NoError(t, os.WriteFile(filepath.Join(d.folder, "pw"), []byte(ManagerPassword+"\n"), 0o644))
	data := filepath.Join(d.folder, "data")
	initdb := exec.Command(bin+"/initdb", "-D", data, "-U", "postgres", "-E", "UTF8", "--locale=C.UTF-8", "-A", "scram-sha-256", "--pwfile="+filepath.Join(d.folder, "pw"), "--no-sync")
	as(t, "postgres", initdb)
	initdb.Dir = d.folder
	out, err := initdb.CombinedOutput()
	require.NoError(t, err, string(out))
	tls := filepath.Join(d.folder, "tls")
	require.NoError(t, os.Chmod(filepath.Join(tls, "key.pem"), 0o600))
	conf := fmt.Sprintf("listen_addresses='%s'\nport=%d\nunix_socket_directories='%s'\nfsync=off\nsynchronous_commit=off\nfull_page_writes=off\nshared_buffers=16MB\nmax_connections=50\nautovacuum=off\nlog_statement=all\nssl=on\nssl_cert_file='%s/cert.pem'\nssl_key_file='%s/key.pem'\n", address, port, d.folder, tls, tls)
	f, err := os.OpenFile(data+"/postgresql.conf", os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	_, err = f.WriteString(conf)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, os.WriteFile(data+"/pg_hba.conf", []byte("local all all trust\nhost all all 0.0.0.0/0 scram-sha-256\n"), 0o644))
	d.begin(t, "postgres", bin+"/postgres", "-D", data)
	d.client = func(t testing.TB, statements string) string {
		t.Helper()
		cmd := exec.Command(bin+"/psql", "-XAtq", "-v", "ON_ERROR_STOP=1", "-h", d.folder, "-p", strconv.Itoa(port), "-U", "postgres", "-d", "postgres")
		cmd.Stdin = strings.NewReader(statements)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	require.Eventually(t, func() bool { // it listens before it answers
		return exec.Command(bin+"/pg_isready", "-q", "-h", d.folder, "-p", strconv.Itoa(port)).Run() == nil
	}, 60*time.Second, 50*time.Millisecond)
	d.Run(t, "SET log_statement='none'; CREATE ROLE mossmgr LOGIN CREATEROLE PASSWORD '"+ManagerPassword+"'; GRANT pg_read_all_stats TO mossmgr;\n"+
		"CREATE ROLE svc_berth1 LOGIN PASSWORD '"+AccountPassword+"'; CREATE ROLE berth_owner NOLOGIN; GRANT berth_owner TO svc_berth1; CREATE ROLE boss1 LOGIN SUPERUSER PASSWORD 'x';\n"+
		"CREATE DATABASE bookings;")
	return d
}

const rotateProcedure = `
create database if not exists ops;
delimiter //
create or replace procedure ops.rotate(in u varchar(80), in h varchar(200), in newhash char(41), in oldhash char(41)) sql security definer
begin
 if u not like 'svc\_%' or newhash not regexp '^[*][0-9A-F]{40}$' or oldhash not regexp '^([*][0-9A-F]{40})?$' then signal sqlstate '45000' set message_text='not managed'; end if;
 if oldhash = '' then execute immediate concat('alter user ',quote(u),'@',quote(h),' identified via mysql_native_password using ',quote(newhash));
 else execute immediate concat('alter user ',quote(u),'@',quote(h),' identified via mysql_native_password using ',quote(newhash),' or mysql_native_password using ',quote(oldhash)); end if;
end//
delimiter ;
`

// MariaDB starts one. svc_berth1 may sign in from anywhere; the log-on mossmgr
// may only read accounts, see sessions, and call ops.rotate.
func MariaDB(t testing.TB, address string, port int) *DataStore {
	t.Helper()
	d := &DataStore{Kind: estate.KindMariaDB, Address: address, Port: port, Options: map[string]string{"procedure": "ops.rotate"}}
	d.prepare(t, "nobody")
	data := filepath.Join(d.folder, "data")
	out, err := exec.Command("mariadb-install-db", "--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve", "--user=nobody", "--datadir="+data, "--basedir=/usr").CombinedOutput()
	require.NoError(t, err, string(out))
	socket := filepath.Join(d.folder, "s.sock")
	tls := filepath.Join(d.folder, "tls")
	d.begin(t, "nobody", "mariadbd", "--no-defaults", "--datadir="+data, "--port="+strconv.Itoa(port), "--bind-address="+address, "--socket="+socket, "--pid-file="+d.folder+"/pid", "--skip-name-resolve",
		"--innodb-buffer-pool-size=16M", "--innodb-log-file-size=8M", "--innodb-flush-log-at-trx-commit=0", "--innodb-flush-method=nosync", "--innodb-doublewrite=0", "--aria-pagecache-buffer-size=1M", "--key-buffer-size=1M", "--max-connections=50",
		"--ssl-cert="+tls+"/cert.pem", "--ssl-key="+tls+"/key.pem", "--general-log=1", "--general-log-file="+d.folder+"/general")
	d.client = func(t testing.TB, statements string) string {
		t.Helper()
		cmd := exec.Command("mariadb", "--no-defaults", "-uroot", "-S", socket, "-sN")
		cmd.Stdin = strings.NewReader(statements)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	d.Run(t, "set sql_log_off=1; create user mossmgr@'%' identified by '"+ManagerPassword+"'; create user svc_berth1@'%' identified by '"+AccountPassword+"'; create database bookings; grant all on bookings.* to svc_berth1@'%';"+
		"grant process on *.* to mossmgr@'%'; grant select on mysql.global_priv to mossmgr@'%';"+rotateProcedure+"grant execute on procedure ops.rotate to mossmgr@'%';")
	return d
}

// Redis starts one with an access-list file. svc_berth1 is a user of it; the
// log-on mossmgr may manage access lists and touch no key. What is given besides is
// added to its options.
func Redis(t testing.TB, address string, port int, options ...string) *DataStore {
	t.Helper()
	d := &DataStore{Kind: estate.KindRedis, Address: address, Port: port}
	d.prepare(t, "nobody")
	acl := filepath.Join(d.folder, "users.acl")
	var lines string
	for _, user := range redisUsers() {
		lines += "user " + strings.Join(user, " ") + "\n"
	}
	require.NoError(t, os.WriteFile(acl, []byte(lines), 0o644))
	uid, gid := as(t, "nobody", nil)
	require.NoError(t, os.Chown(acl, uid, gid))
	d.redis(t, append([]string{"--aclfile", acl}, options...)...)
	return d
}

// ForgetfulRedis has no file of any kind: what is changed is lost when it restarts.
func ForgetfulRedis(t testing.TB, address string, port int) *DataStore {
	t.Helper()
	d := &DataStore{Kind: estate.KindRedis, Address: address, Port: port}
	d.prepare(t, "nobody")
	var options []string
	for _, user := range redisUsers() {
		options = append(append(options, "--user"), user...)
	}
	d.redis(t, options...)
	return d
}

func redisUsers() [][]string {
	digest := func(password string) string {
		sum := sha256.Sum256([]byte(password))
		return "#" + hex.EncodeToString(sum[:])
	}
	return [][]string{
		{"default", "off"},
		{"mossmgr", "on", digest(ManagerPassword), "-@all", "+acl", "+client|list", "+client|id", "+config|rewrite", "+config|get", "+ping", "+info"},
		{"svc_berth1", "on", digest(AccountPassword), "~*", "&*", "+@all", "-@admin"},
		{"root", "on", "nopass", "~*", "&*", "+@all"},
	}
}

func (d *DataStore) redis(t testing.TB, options ...string) {
	t.Helper()
	tls := filepath.Join(d.folder, "tls")
	d.begin(t, "nobody", "redis-server", append([]string{
		"--bind", d.Address, "--port", "0", "--tls-port", strconv.Itoa(d.Port), "--tls-cert-file", tls + "/cert.pem", "--tls-key-file", tls + "/key.pem", "--tls-auth-clients", "no", "--tls-ca-cert-file", tls + "/cert.pem",
		"--unixsocket", filepath.Join(d.folder, "s.sock"), "--dir", d.folder, "--save", "", "--protected-mode", "no",
	}, options...)...)
	d.client = func(t testing.TB, statements string) string {
		t.Helper()
		cmd := exec.Command("redis-cli", "-s", filepath.Join(d.folder, "s.sock"), "--user", "root", "--pass", "x", "--no-auth-warning")
		cmd.Stdin = strings.NewReader(statements + "\n")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
}

// Folder is where it keeps its files.
func (d *DataStore) Folder() string { return d.folder }

// AllowMD5 lets roles sign in with what their verifier asks for, as servers that were
// brought along from before version 10 do.
func (d *DataStore) AllowMD5(t testing.TB) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(d.folder, "data", "pg_hba.conf"), []byte("local all all trust\nhost all all 0.0.0.0/0 md5\n"), 0o644))
	d.Run(t, "SELECT pg_reload_conf();")
}

// Sentinel starts one that watches a server, signing in there as a user.
func Sentinel(t testing.TB, of *DataStore, address string, port int, user, password string) {
	t.Helper()
	d := &DataStore{Kind: estate.KindRedis, Address: address, Port: port}
	d.prepare(t, "nobody")
	tls := filepath.Join(d.folder, "tls")
	conf := filepath.Join(d.folder, "sentinel.conf")
	require.NoError(t, os.WriteFile(conf, []byte(fmt.Sprintf("bind %s\nport 0\ntls-port %d\ntls-cert-file %s/cert.pem\ntls-key-file %s/key.pem\ntls-auth-clients no\ntls-ca-cert-file %s\ntls-replication yes\ndir %s\nsentinel monitor berths %s %d 1\nsentinel auth-user berths %s\nsentinel auth-pass berths %s\n",
		address, port, tls, tls, filepath.Join(of.folder, "ca", "ca.pem"), d.folder, of.Address, of.Port, user, password)), 0o644))
	uid, gid := as(t, "nobody", nil)
	require.NoError(t, os.Chown(conf, uid, gid))
	d.begin(t, "nobody", "redis-server", conf, "--sentinel")
}
