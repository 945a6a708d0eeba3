package lab

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// Pooler is a connection pooler in front of a PostgreSQL server, with a list of users of
// its own.
type Pooler struct {
	address string
	port    int
	list    string // its list of users, as a file
	process *exec.Cmd
}

// NewPooler starts one that lets in, and signs in as, those of a list of users.
func NewPooler(t testing.TB, d *DataStore, address string, port int, list []byte) *Pooler {
	t.Helper()
	p := &Pooler{address: address, port: port, list: filepath.Join(d.folder, "userlist.txt")}
	p.write(t, list)
	conf := filepath.Join(d.folder, "pooler.ini")
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, "[databases]\n* = host=%s port=%d\n[pgbouncer]\nlisten_addr = %s\nlisten_port = %d\nunix_socket_dir =\nauth_type = md5\nauth_file = %s\npool_mode = session\n", d.Address, d.Port, address, port, p.list), 0o644))
	p.process = exec.Command("pgbouncer", "-q", conf)
	as(t, "postgres", p.process)
	require.NoError(t, p.process.Start())
	t.Cleanup(func() {
		_ = p.process.Process.Kill()
		_ = p.process.Wait()
	})
	return p
}

func (p *Pooler) write(t testing.TB, list []byte) {
	t.Helper()
	require.NoError(t, os.WriteFile(p.list, list, 0o644)) // values of the lab, of no worth
}

// Reload has it read another list.
func (p *Pooler) Reload(t testing.TB, list []byte) {
	t.Helper()
	p.write(t, list)
	require.NoError(t, p.process.Process.Signal(syscall.SIGHUP))
}

// Reaches reports whether a role gets through it to the server, within some seconds.
func (p *Pooler) Reaches(t testing.TB, role, password string) bool {
	t.Helper()
	for range 40 {
		conn, err := pgx.Connect(t.Context(), fmt.Sprintf("host=%s port=%d user=%s password='%s' dbname=bookings sslmode=disable", p.address, p.port, role, password))
		if err == nil {
			err = conn.Ping(t.Context())
			_ = conn.Close(t.Context())
		}
		if err == nil {
			return true
		}
		t.Log(err)
		select {
		case <-t.Context().Done():
			return false
		case <-time.After(100 * time.Millisecond):
		}
	}
	return false
}
