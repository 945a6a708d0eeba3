package lab

import (
	"net"
	"os"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Listen opens ports in a host's own network: what listens there belongs to this process, and
// is reached as the host's programs are. The caller closes them.
func (h *Host) Listen(t testing.TB, addresses ...string) (out []net.Listener) {
	t.Helper()
	there, err := os.Open("/run/netns/moss-" + h.Name)
	require.NoError(t, err)
	defer there.Close()
	here, err := os.Open("/proc/thread-self/ns/net")
	require.NoError(t, err)
	defer here.Close()
	// A network belongs to a thread: this one goes there and comes back.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	require.NoError(t, unix.Setns(int(there.Fd()), unix.CLONE_NEWNET))
	defer func() { require.NoError(t, unix.Setns(int(here.Fd()), unix.CLONE_NEWNET)) }()
	for _, address := range addresses {
		listener, err := net.Listen("tcp", address) //nolint:noctx // the thread must stay this one
		require.NoError(t, err)
		out = append(out, listener)
	}
	return out
}
