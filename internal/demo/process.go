package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// Process runs the service as a process of its own, and its command line.
type Process struct {
	Binary  string // the moss binary
	Folder  string // for everything that is written
	Listen  string // host:port; with port 0 the first start chooses one
	URL     string // set by StartService
	service *exec.Cmd
	exited  chan error
}

// File is a path in the process's folder.
func (p *Process) File(name string) string { return filepath.Join(p.Folder, name) }

// PID is the number of the service's process, while it runs.
func (p *Process) PID() int { return p.service.Process.Pid }

// StartService starts the service; drill is the number of journal records
// after which it kills itself, 0 for never. At the first start the set-up code
// is left in the file setup.code.
func (p *Process) StartService(ctx context.Context, drill int, more ...string) error {
	log, err := os.OpenFile(p.File("service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	ready := p.File("ready")
	_ = os.Remove(ready)
	args := []string{"serve", "--data", p.File("data"), "--key-file", p.File("key/master.key"), "--listen", p.Listen, "--ready-file", ready, "--survey-every", "0", "--verify-every", "0", "--log-format", "json"}
	args = append(args, more...)
	if drill > 0 {
		args = append(args, "--drill-kill-after", fmt.Sprint(drill))
	}
	cmd := exec.Command(p.Binary, args...)
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C is for us to pass on
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start the service: %w", err)
	}
	p.service, p.exited = cmd, make(chan error, 1)
	exited := p.exited
	go func() { exited <- cmd.Wait() }()
	for limit := time.Now().Add(30 * time.Second); time.Now().Before(limit); {
		if raw, err := os.ReadFile(ready); err == nil && strings.Count(string(raw), "\n") >= 2 {
			lines := strings.Split(string(raw), "\n")
			p.URL = lines[0]
			p.Listen = strings.TrimPrefix(p.URL, "http://")
			if lines[1] == "" {
				return nil
			}
			return os.WriteFile(p.File("setup.code"), []byte(lines[1]), 0o600)
		}
		select {
		case err := <-exited:
			p.service = nil
			return fmt.Errorf("the service ended at once (%w); see %s:\n%s", err, p.File("service.log"), tail(p.File("service.log")))
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return fmt.Errorf("the service did not get ready; see %s", p.File("service.log"))
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
func (p *Process) StopService(signal syscall.Signal) error {
	if p.service == nil {
		return nil
	}
	service := p.service
	p.service = nil
	if err := service.Process.Signal(signal); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-p.exited:
		return nil
	case <-time.After(30 * time.Second):
		_ = service.Process.Kill()
		<-p.exited
		return errors.New("the service did not stop within 30 seconds")
	}
}

// WaitServiceEnd waits until the service ends by itself.
func (p *Process) WaitServiceEnd(ctx context.Context) error {
	select {
	case <-p.exited:
		p.service = nil
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Moss runs the command line as a person would, and returns what it printed
// and its exit code.
func (p *Process) Moss(ctx context.Context, args ...string) (string, int, error) {
	cmd := exec.CommandContext(ctx, p.Binary, args...)
	cmd.Env = append(os.Environ(), "MOSS_CONFIG="+p.File("config"))
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
