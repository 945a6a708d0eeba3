// Package demo runs the demonstration: the Larkmoor Ferries estate of
// stand-ins, a service in a process of its own (so that it can be killed), and
// the tour, which goes through the whole story with the command line.
package demo

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"mossledger.example/moss/internal/standin/larkmoor"
)

// Options of a demonstration.
type Options struct {
	Binary string // the moss binary
	Folder string // for everything that it writes; made anew
	Listen string
	Out    io.Writer
}

// Demo is a running demonstration.
type Demo struct {
	Options
	Estate  *larkmoor.Estate
	URL     string
	service *exec.Cmd
	exited  chan error
	log     *os.File
}

// Name and password of the demonstration's first user. The demonstration is
// made-up data on loopback; a real service has no default password.
const (
	UserName     = "ines"
	UserPassword = "slow-tides-keep-time"
)

// Start builds the estate and starts the service.
func Start(ctx context.Context, options Options) (*Demo, error) {
	if err := os.RemoveAll(options.Folder); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(options.Folder, 0o700); err != nil {
		return nil, err
	}
	estate, err := larkmoor.Start()
	if err != nil {
		return nil, fmt.Errorf("start the estate: %w", err)
	}
	d := &Demo{Options: options, Estate: estate}
	files := map[string]string{"ca.pem": estate.CA, "hosts.csv": estate.HostsCSV, "manager.pw": larkmoor.ManagerPassword + "\n", "user.pw": UserPassword + "\n"}
	for name, password := range larkmoor.Passwords {
		files[name+".pw"] = password + "\n"
	}
	for name, content := range files {
		if err := os.WriteFile(d.File(name), []byte(content), 0o600); err != nil {
			return nil, errors.Join(err, d.Close())
		}
	}
	if d.log, err = os.Create(d.File("service.log")); err != nil {
		return nil, errors.Join(err, d.Close())
	}
	code, err := d.StartService(ctx, 0)
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	if err := os.WriteFile(d.File("setup.code"), []byte(code), 0o600); err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

// File is a path in the demonstration's folder.
func (d *Demo) File(name string) string { return filepath.Join(d.Folder, name) }

// StartService starts the service; drill is the number of journal records
// after which it kills itself, 0 for never. It returns the set-up code, if any.
func (d *Demo) StartService(ctx context.Context, drill int) (string, error) {
	ready := d.File("ready")
	_ = os.Remove(ready)
	args := []string{"serve", "--data", d.File("data"), "--key-file", d.File("key/master.key"), "--listen", d.Listen, "--ready-file", ready, "--survey-every", "0", "--verify-every", "0", "--log-format", "json"}
	if drill > 0 {
		args = append(args, "--drill-kill-after", fmt.Sprint(drill))
	}
	cmd := exec.Command(d.Binary, args...)
	cmd.Stdout, cmd.Stderr = d.log, d.log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C is for us to pass on
	if err := cmd.Start(); err != nil {
		return "", fmt.Errorf("start the service: %w", err)
	}
	d.service, d.exited = cmd, make(chan error, 1)
	exited := d.exited
	go func() { exited <- cmd.Wait() }()
	for limit := time.Now().Add(30 * time.Second); time.Now().Before(limit); {
		if raw, err := os.ReadFile(ready); err == nil && strings.Count(string(raw), "\n") >= 2 {
			lines := strings.Split(string(raw), "\n")
			d.URL = lines[0]
			d.Listen = strings.TrimPrefix(d.URL, "http://")
			return lines[1], nil
		}
		select {
		case err := <-exited:
			d.service = nil
			return "", fmt.Errorf("the service ended at once (%v); see %s:\n%s", err, d.File("service.log"), tail(d.File("service.log")))
		case <-ctx.Done():
			return "", ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return "", fmt.Errorf("the service did not get ready; see %s", d.File("service.log"))
}

func tail(file string) string {
	raw, err := os.ReadFile(file)
	if err != nil {
		return err.Error()
	}
	lines := strings.Split(strings.TrimSpace(string(raw)), "\n")
	return strings.Join(lines[max(0, len(lines)-5):], "\n")
}

// StopService ends the service in an orderly way, or at once with SIGKILL.
func (d *Demo) StopService(signal syscall.Signal) error {
	if d.service == nil {
		return nil
	}
	service := d.service
	d.service = nil
	if err := service.Process.Signal(signal); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-d.exited:
		return nil
	case <-time.After(30 * time.Second):
		_ = service.Process.Kill()
		<-d.exited
		return errors.New("the service did not stop within 30 seconds")
	}
}

// WaitServiceEnd waits until the service ends by itself.
func (d *Demo) WaitServiceEnd(ctx context.Context) error {
	select {
	case <-d.exited:
		d.service = nil
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Close ends everything that was started.
func (d *Demo) Close() error {
	err := d.StopService(syscall.SIGTERM)
	if d.Estate != nil {
		err = errors.Join(err, d.Estate.Close())
	}
	if d.log != nil {
		err = errors.Join(err, d.log.Close())
	}
	return err
}

// Moss runs the command line as a person would, and returns what it printed
// and its exit code.
func (d *Demo) Moss(ctx context.Context, args ...string) (string, int, error) {
	cmd := exec.CommandContext(ctx, d.Binary, args...)
	cmd.Env = append(os.Environ(), "MOSS_CONFIG="+d.File("config"))
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return out.String(), exit.ExitCode(), nil
	}
	return out.String(), 0, err
}

// Prepare signs in, stores log-ons, adds the systems, approves host keys,
// surveys, and takes some accounts into custody.
func (d *Demo) Prepare(ctx context.Context) error {
	host, port := larkmoor.Port(d.Estate.Address)
	steps := [][]string{
		{"login", "--server", d.URL, "--set-up", "--code-file", d.File("setup.code"), "--name", UserName, "--password-file", d.File("user.pw")},
		{"logon", "add", "directory", "--account", larkmoor.ManagerDN, "--password-file", d.File("manager.pw")},
		{"logon", "add", "hosts", "--account", larkmoor.Manager, "--password-file", d.File("manager.pw")},
		{"system", "add", "larkmoor-directory", "--kind", "directory", "--address", host, "--port", fmt.Sprint(port), "--logon", "directory", "--ca-file", d.File("ca.pem"), "--site", "Larkmoor North", "--environment", "production", "--owner", "Directory team"},
		{"system", "import", d.File("hosts.csv"), "--logon", "hosts"},
	}
	for name, h := range d.Estate.Hosts {
		steps = append(steps, []string{"system", "check", name, "--approve", h.Fingerprint()})
	}
	steps = append(steps, []string{"survey", "run"})
	for _, name := range []string{"svc-berth", "svc-gangway", "svc-manifest", "svc-tidefeed"} {
		steps = append(steps, []string{"custody", "take", "larkmoor-directory/" + name, "--password-file", d.File(name + ".pw")})
	}
	steps = append(steps, []string{"custody", "take", "bookings1/svc-fuelcard", "--password-file", d.File("svc-fuelcard.pw")}, []string{"survey", "run"})
	for _, args := range steps {
		out, exit, err := d.Moss(ctx, args...)
		if err != nil || exit != 0 {
			return fmt.Errorf("moss %s ended with %d: %w\n%s", strings.Join(args, " "), exit, err, out)
		}
	}
	return nil
}

// Banner tells a person what to do next.
func (d *Demo) Banner() string {
	return fmt.Sprintf(`
The Larkmoor Ferries demonstration runs.

  Console        %s
  Sign in as     %s
  Password       %s
  Command line   export MOSS_CONFIG=%s

Three things to try:
  1. moss account show svc-berth              who uses it, and how that is known
  2. moss rotate rehearse svc-berth           what a rotation would do
     moss rotate run svc-berth --reason demo  do it, and watch
  3. moss finding list                        what needs a person here

Ctrl-C ends it. Everything it wrote is in %s.
`, d.URL, UserName, UserPassword, d.File("config"), d.Folder)
}

func indent(out io.Writer, text string) {
	lines := bufio.NewScanner(strings.NewReader(text))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		fmt.Fprintln(out, "    | "+lines.Text())
	}
}
