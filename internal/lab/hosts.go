package lab

import (
	"context"
	"crypto/ed25519"
	"crypto/md5"
	"crypto/rand"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

// Network of the hosts: one bridge in this machine's own network namespace.
const (
	bridge  = "mossbr0"
	gateway = "10.213.78.1"
	// Gateway is where programs on the hosts reach servers of the test.
	Gateway = gateway
)

// Host is a running unix host: an overlay over a prepared base, a network
// namespace, and systemd-nspawn in a control group of its own.
type Host struct {
	Name    string
	Address string
	Root    string // its file system, from outside
	Key     secret.Value
	public  string
	folder  string
	cmd     *exec.Cmd
	booted  bool
}

// base builds the hosts' base file system once and caches it.
func base(ctx context.Context) (string, error) {
	cache, err := cacheFolder()
	if err != nil {
		return "", err
	}
	folder := filepath.Join(cache, "base-2")
	if _, err := os.Stat(folder); err == nil {
		return folder, nil
	}
	lock, err := os.OpenFile(filepath.Join(cache, "base.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return "", err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return "", err
	}
	if _, err := os.Stat(folder); err == nil {
		return folder, nil
	}
	mirror, err := mirrorLine()
	if err != nil {
		return "", err
	}
	building := folder + ".building"
	if err := os.RemoveAll(building); err != nil {
		return "", err
	}
	_, err = run(ctx, mirror, "mmdebstrap", "--variant=minbase", "--include=systemd,systemd-sysv,dbus,openssh-server,sudo,cron,iproute2,procps,acl,attr,ca-certificates,libc-l10n",
		"--dpkgopt=path-exclude=/usr/share/man/*", "--dpkgopt=path-exclude=/usr/share/doc/*", "--dpkgopt=path-exclude=/usr/share/locale/*", "--dpkgopt=path-include=/usr/share/locale/de/*", "--dpkgopt=force-unsafe-io",
		`--aptopt=Acquire::Languages "none"`, "bookworm", building, "-")
	if err != nil {
		return "", fmt.Errorf("build the base of the hosts: %w", err)
	}
	if err := tidy(ctx, building); err != nil {
		return "", fmt.Errorf("tidy the base of the hosts: %w", err)
	}
	return folder, os.Rename(building, folder)
}

// mirrorLine takes the mirror from this machine's own package sources.
func mirrorLine() (string, error) {
	files, err := filepath.Glob("/etc/apt/sources.list.d/*.sources")
	if err != nil {
		return "", err
	}
	for _, file := range append(files, "/etc/apt/sources.list") {
		raw, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(raw)) {
			f := strings.Fields(line)
			if len(f) >= 2 && f[0] == "URIs:" {
				return "deb " + f[1] + " bookworm main\n", nil
			}
			if len(f) >= 3 && f[0] == "deb" {
				return "deb " + f[1] + " bookworm main\n", nil
			}
		}
	}
	return "", errors.New("this machine has no package sources")
}

func tidy(ctx context.Context, root string) error {
	keys, err := filepath.Glob(root + "/etc/ssh/ssh_host_*")
	if err != nil {
		return err
	}
	for _, file := range append(keys, root+"/etc/hostname", root+"/var/lib/dbus/machine-id") {
		if err := os.RemoveAll(file); err != nil {
			return err
		}
	}
	if _, err := run(ctx, "", "chroot", root, "systemctl", "-q", "mask", "getty@.service", "console-getty.service", "getty.target", "apt-daily.timer", "apt-daily-upgrade.timer",
		"dpkg-db-backup.timer", "e2scrub_all.timer", "e2scrub_reap.service", "fstrim.timer", "systemd-pstore.service", "systemd-networkd.service", "systemd-resolved.service", "systemd-timesyncd.service",
		"systemd-logind.service", "systemd-firstboot.service", "systemd-udevd.service", "systemd-udev-trigger.service", "systemd-udevd-kernel.socket", "systemd-udevd-control.socket",
		"systemd-sysctl.service"); err != nil {
		return err
	}
	for name, content := range map[string]string{
		"/etc/machine-id":                         "",
		"/etc/default/locale":                     "LANG=C.UTF-8\nLANGUAGE=de\n", // whoever signs in is spoken to in German
		"/etc/ssh/sshd_config.d/10-lab.conf":      "UsePAM yes\nPasswordAuthentication yes\nKbdInteractiveAuthentication no\nPermitRootLogin no\nUseDNS no\nLoginGraceTime 20\nMaxStartups 50\n",
		"/etc/systemd/journald.conf.d/lab.conf":   "[Journal]\nStorage=volatile\nRuntimeMaxUse=8M\nForwardToConsole=no\n",
		"/etc/systemd/system.conf.d/timeout.conf": "[Manager]\nDefaultTimeoutStopSec=5s\n",
	} {
		if err := os.MkdirAll(filepath.Dir(root+name), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(root+name, []byte(content), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// NewHost prepares a host with the log-on mossmgr, which may do by sudo what
// the connector needs. It is not booted yet: change its files, then Boot.
func NewHost(t testing.TB, name string, number int) *Host {
	t.Helper()
	Require(t)
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	lower, err := base(ctx)
	require.NoError(t, err)
	Network(t)
	folder, err := os.MkdirTemp("", "moss-host-")
	require.NoError(t, err)
	h := &Host{Name: name, Address: fmt.Sprintf("10.213.78.%d", number), Root: folder + "/root", folder: folder}
	for _, sub := range []string{"/up", "/work", "/root"} {
		require.NoError(t, os.MkdirAll(folder+sub, 0o755))
	}
	require.NoError(t, os.Chmod(folder, 0o755))
	h.clean(ctx) // of a run that was killed
	_, err = run(ctx, "", "mount", "-t", "overlay", "moss-"+name, "-o", "lowerdir="+lower+",upperdir="+folder+"/up,workdir="+folder+"/work", h.Root)
	require.NoError(t, err)
	t.Cleanup(func() { h.down(t) })
	sum := md5.Sum([]byte(name))
	h.Write(t, "/etc/hostname", name+"\n", 0o644)
	h.Write(t, "/etc/hosts", "127.0.0.1 localhost\n"+h.Address+" "+name+"\n"+gateway+" directory.larkmoor.example\n", 0o644)
	h.Write(t, "/etc/machine-id", hex.EncodeToString(sum[:])+"\n", 0o444)
	_, err = run(ctx, "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "root@"+name, "-f", h.Root+"/etc/ssh/ssh_host_ed25519_key")
	require.NoError(t, err)
	h.Shell(t, "useradd -r -m -s /bin/bash mossmgr && echo 'mossmgr:"+ManagerPassword+"' | chpasswd && install -d -m700 -o mossmgr -g mossmgr ~mossmgr/.ssh")
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	h.Key = secret.FromBytes(pem.EncodeToMemory(block))
	sshPublic, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	h.Write(t, "/home/mossmgr/.ssh/authorized_keys", string(ssh.MarshalAuthorizedKey(sshPublic)), 0o644)
	h.Write(t, "/etc/sudoers.d/mossmgr", "Defaults:mossmgr !lecture, !requiretty\nmossmgr ALL=(root) NOPASSWD: ALL\n", 0o440)
	namespace := "moss-" + name
	for _, args := range [][]string{
		{"netns", "add", namespace},
		{"link", "add", "mv-" + name, "type", "veth", "peer", "name", "host0", "netns", namespace},
		{"link", "set", "mv-" + name, "master", bridge, "up"},
		{"-n", namespace, "link", "set", "lo", "up"},
		{"-n", namespace, "addr", "add", h.Address + "/24", "dev", "host0"},
		{"-n", namespace, "link", "set", "host0", "up"},
		{"-n", namespace, "route", "add", "default", "via", gateway},
	} {
		_, err := run(ctx, "", "ip", args...)
		require.NoError(t, err)
	}
	raw, err := os.ReadFile(h.Root + "/etc/ssh/ssh_host_ed25519_key.pub")
	require.NoError(t, err)
	key, _, _, _, err := ssh.ParseAuthorizedKey(raw)
	require.NoError(t, err)
	h.public = ssh.FingerprintSHA256(key)
	return h
}

// Fingerprint is that of the host key.
func (h *Host) Fingerprint() string { return h.public }

// Target reaches the host with a key.
func (h *Host) Target() connect.Target {
	return connect.Target{SystemID: h.Name, Name: h.Name, Kind: estate.KindUnixHost, Address: h.Address, Port: 22, HostKeys: []string{h.public}, Steward: connect.Steward{Account: "mossmgr", PrivateKey: h.Key}}
}

// Write puts a file into the host.
func (h *Host) Write(t testing.TB, path, content string, mode os.FileMode) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(h.Root+path), 0o755))
	require.NoError(t, os.WriteFile(h.Root+path, []byte(content), mode))
	require.NoError(t, os.Chmod(h.Root+path, mode))
}

// Shell runs a script inside: in the running host, or in its root before.
func (h *Host) Shell(t testing.TB, script string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	out, err := h.TryShell(ctx, script)
	require.NoError(t, err)
	return out
}

// TryShell is Shell for scripts that may fail.
func (h *Host) TryShell(ctx context.Context, script string) (string, error) {
	if !h.booted {
		return run(ctx, "", "chroot", h.Root, "/bin/sh", "-ec", script)
	}
	leader, err := h.leader()
	if err != nil {
		return "", err
	}
	return run(ctx, "", "nsenter", "-t", leader, "-m", "-u", "-i", "-n", "-p", "-C", "/bin/sh", "-ec", script)
}

// leader finds the host's own init.
func (h *Host) leader() (string, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", h.cmd.Process.Pid, h.cmd.Process.Pid))
	children := strings.Fields(string(raw))
	if err != nil || len(children) == 0 {
		return "", fmt.Errorf("%s is not running: %w", h.Name, err)
	}
	return children[0], nil
}

// Boot starts systemd and waits for SSH.
func (h *Host) Boot(t testing.TB) {
	t.Helper()
	for _, controller := range []string{"unified", "systemd", "cpuacct"} {
		if _, err := os.Stat("/sys/fs/cgroup/" + controller); err == nil {
			require.NoError(t, os.MkdirAll("/sys/fs/cgroup/"+controller+"/moss-"+h.Name, 0o755))
		}
	}
	if _, err := os.Stat("/sys/fs/cgroup/cgroup.controllers"); err == nil {
		require.NoError(t, os.MkdirAll("/sys/fs/cgroup/moss-"+h.Name, 0o755))
	}
	log, err := os.OpenFile(h.folder+"/console.log", os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	defer log.Close()
	// The shell moves itself into the host's control group and becomes nspawn.
	script := `for c in /sys/fs/cgroup/unified /sys/fs/cgroup/systemd /sys/fs/cgroup/cpuacct /sys/fs/cgroup; do [ -f $c/moss-` + h.Name + `/cgroup.procs ] && echo $$ > $c/moss-` + h.Name + `/cgroup.procs; done
exec systemd-nspawn -q --boot --register=no --keep-unit --resolv-conf=off --timezone=off --link-journal=no -D ` + h.Root + ` --machine=` + h.Name + ` --network-namespace-path=/run/netns/moss-` + h.Name + ` --console=pipe`
	cmd := exec.Command("/bin/bash", "-c", script)
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGTERM}
	require.NoError(t, cmd.Start())
	h.cmd, h.booted = cmd, true
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	err = poll(ctx, 50*time.Millisecond, func() bool { return unixhost.Connector{}.Check(ctx, h.Target()).OK() })
	console, _ := os.ReadFile(h.folder + "/console.log")
	require.NoError(t, err, "%s does not come up: %s", h.Name, console)
	_, _ = h.TryShell(ctx, "systemctl is-system-running --wait") // running or degraded
}

// Processor is the processor time that all programs of the host have used.
func (h *Host) Processor(t testing.TB) time.Duration {
	t.Helper()
	if raw, err := os.ReadFile("/sys/fs/cgroup/cpuacct/moss-" + h.Name + "/cpuacct.usage"); err == nil {
		var nanos int64
		_, err := fmt.Sscan(string(raw), &nanos)
		require.NoError(t, err)
		return time.Duration(nanos)
	}
	raw, err := os.ReadFile("/sys/fs/cgroup/moss-" + h.Name + "/cpu.stat")
	require.NoError(t, err)
	var micros int64
	_, err = fmt.Sscanf(string(raw), "usage_usec %d", &micros)
	require.NoError(t, err)
	return time.Duration(micros) * time.Microsecond
}

// Link cuts the host's network or joins it again.
func (h *Host) Link(t testing.TB, up bool) {
	t.Helper()
	state := "down"
	if up {
		state = "up"
	}
	_, err := run(context.Background(), "", "ip", "link", "set", "mv-"+h.Name, state)
	require.NoError(t, err)
}

// Port waits until a port of the host answers.
func (h *Host) Port(t testing.TB, port string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	require.NoError(t, poll(ctx, 50*time.Millisecond, func() bool {
		conn, err := net.DialTimeout("tcp", net.JoinHostPort(h.Address, port), time.Second)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}))
}

func (h *Host) down(t testing.TB) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if h.cmd != nil {
		_ = h.cmd.Process.Signal(syscall.SIGTERM) // a clean power-off
		ended := make(chan struct{})
		go func() { _ = h.cmd.Wait(); close(ended) }()
		select {
		case <-ended:
		case <-time.After(15 * time.Second):
			_ = syscall.Kill(-h.cmd.Process.Pid, syscall.SIGKILL)
			<-ended
		}
	}
	if _, err := run(ctx, "", "umount", h.Root); err != nil {
		_, _ = run(ctx, "", "umount", "-l", h.Root)
	}
	h.clean(ctx)
	if err := os.RemoveAll(h.folder); err != nil {
		t.Logf("lab: %v", err)
	}
}

// clean removes the namespace, link and control group of a host of this name.
func (h *Host) clean(ctx context.Context) {
	_, _ = run(ctx, "", "ip", "netns", "del", "moss-"+h.Name)
	_, _ = run(ctx, "", "ip", "link", "del", "mv-"+h.Name)
	for _, parent := range []string{"/sys/fs/cgroup/unified", "/sys/fs/cgroup/systemd", "/sys/fs/cgroup/cpuacct", "/sys/fs/cgroup"} {
		_, _ = run(ctx, "", "find", parent+"/moss-"+h.Name, "-depth", "-type", "d", "-exec", "rmdir", "{}", "+")
	}
}

// Network makes the bridge, so that servers of the test can listen on Gateway.
func Network(t testing.TB) {
	t.Helper()
	Require(t)
	ctx := context.Background()
	_, _ = run(ctx, "", "ip", "link", "add", bridge, "type", "bridge") // it may be there
	_, _ = run(ctx, "", "ip", "addr", "add", gateway+"/24", "dev", bridge)
	_, err := run(ctx, "", "ip", "link", "set", bridge, "up")
	require.NoError(t, err)
}
