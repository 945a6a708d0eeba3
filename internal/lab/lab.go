// Package lab starts real systems for tests: directories (Samba with the
// Windows-domain schema, OpenLDAP), data stores (PostgreSQL, MariaDB, Redis) and unix hosts with a real systemd, each in
// a network namespace and a control group of its own. It needs root on Linux
// and some Debian packages, which 'make lab' installs; where it cannot run,
// Available says why, and with CI=true that is a failure.
package lab

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"
)

// Commands that the lab needs, with the packages that bring them.
var needs = map[string]string{
	"samba": "samba-ad-dc", "samba-tool": "samba-ad-dc", "ldbadd": "ldb-tools", "slapd": "slapd", "slapadd": "slapd", "kinit": "krb5-user",
	"mmdebstrap": "mmdebstrap", "systemd-nspawn": "systemd-container", "ip": "iproute2", "openssl": "openssl", "ldapsearch": "ldap-utils",
	"mariadbd": "mariadb-server-core", "mariadb-install-db": "mariadb-server-core", "redis-server": "redis-server", "pg_ctlcluster": "postgresql", "pgbouncer": "pgbouncer", "busybox": "busybox-static", "rsyslogd": "rsyslog",
}

// Available reports why the lab cannot run here, or nil.
func Available() error {
	if runtime.GOOS != "linux" || os.Geteuid() != 0 {
		return errors.New("real systems need root on Linux")
	}
	var missing []string
	for command, pkg := range needs {
		if _, err := exec.LookPath(command); err != nil {
			missing = append(missing, pkg)
		}
	}
	if len(missing) > 0 {
		return fmt.Errorf("missing Debian packages (run 'make lab'): %s", strings.Join(missing, " "))
	}
	return nil
}

// Require leaves a test out where the lab cannot run.
func Require(t testing.TB) {
	t.Helper()
	if err := Available(); err != nil {
		LeaveOut(t, "the lab of real systems cannot run: "+err.Error())
	}
}

// LeaveOut leaves a test out, and has 'make test' say so at its end: it reads
// the file that MOSS_LEFT_OUT names. With CI=true nothing may be left out: the
// test fails.
func LeaveOut(t testing.TB, why string) {
	t.Helper()
	if os.Getenv("CI") == "true" {
		t.Fatalf("with CI=true nothing may be left out: %s", why)
	}
	if name := os.Getenv("MOSS_LEFT_OUT"); name != "" {
		f, err := os.OpenFile(name, os.O_APPEND|os.O_WRONLY|os.O_CREATE, 0o600)
		if err == nil {
			_, err = fmt.Fprintf(f, "%s: %s\n", t.Name(), why)
			err = errors.Join(err, f.Close())
		}
		if err != nil {
			t.Fatalf("left out (%s), and that cannot be told: %v", why, err)
		}
	}
	t.Skip("left out: " + why)
}

// run runs a command and returns its output; a failure carries it.
func run(ctx context.Context, stdin string, name string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdin = strings.NewReader(stdin)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "TDB_NO_FSYNC=1")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil {
		return out.String(), fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, strings.TrimSpace(out.String()))
	}
	return out.String(), nil
}

// cacheFolder is where prepared bases live between runs.
func cacheFolder() (string, error) {
	base, err := os.UserCacheDir()
	if err != nil {
		base = os.TempDir()
	}
	folder := filepath.Join(base, "moss-lab")
	return folder, os.MkdirAll(folder, 0o700)
}

// poll waits for a condition.
func poll(ctx context.Context, every time.Duration, done func() bool) error {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for !done() {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

// Authority makes certificates for the lab's servers.
type Authority struct {
	folder string
	PEM    string
}

func newAuthority(ctx context.Context, folder string) (*Authority, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	if _, err := run(ctx, "", "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-days", "30", "-subj", "/CN=lab authority",
		"-keyout", folder+"/ca.key", "-out", folder+"/ca.pem"); err != nil {
		return nil, err
	}
	raw, err := os.ReadFile(folder + "/ca.pem")
	return &Authority{folder: folder, PEM: string(raw)}, err
}

// issue writes cert.pem, key.pem and ca.pem for a name and an address.
func (a *Authority) issue(ctx context.Context, folder, name, address string) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	if _, err := run(ctx, "", "openssl", "req", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-subj", "/CN="+name, "-keyout", folder+"/key.pem", "-out", folder+"/req.pem"); err != nil {
		return err
	}
	extensions := folder + "/ext"
	if err := os.WriteFile(extensions, []byte("subjectAltName=DNS:"+name+",IP:"+address+"\nextendedKeyUsage=serverAuth\n"), 0o600); err != nil {
		return err
	}
	if _, err := run(ctx, "", "openssl", "x509", "-req", "-in", folder+"/req.pem", "-CA", a.folder+"/ca.pem", "-CAkey", a.folder+"/ca.key", "-CAcreateserial", "-days", "30", "-extfile", extensions, "-out", folder+"/cert.pem"); err != nil {
		return err
	}
	return os.WriteFile(folder+"/ca.pem", []byte(a.PEM), 0o644)
}
