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
	"strings"
	"syscall"

	"mossledger.example/moss/internal/standin/larkmoor"
)

// Options of a demonstration.
type Options struct {
	Binary string // the moss binary
	Folder string // for everything that it writes; new, empty, or one that a demonstration made
	Listen string
	Out    io.Writer
}

// Demo is a running demonstration.
type Demo struct {
	*Process
	Estate *larkmoor.Estate
	Out    io.Writer
	folder *os.File // held while it runs
}

// Name and password of the demonstration's first user. The demonstration is
// made-up data on loopback; a real service has no default password.
const (
	UserName     = "ines"
	UserPassword = "slow-tides-keep-time"
)

// Start builds the estate and starts the service.
func Start(ctx context.Context, options Options) (*Demo, error) {
	folder, err := claim(options.Folder)
	if err != nil {
		return nil, err
	}
	estate, err := larkmoor.Start()
	if err != nil {
		return nil, errors.Join(fmt.Errorf("start the estate: %w", err), folder.Close())
	}
	d := &Demo{folder: folder, Process: &Process{Binary: options.Binary, Folder: options.Folder, Listen: options.Listen}, Estate: estate, Out: options.Out}
	files := map[string]string{"ca.pem": estate.CA, "hosts.csv": estate.HostsCSV, "manager.pw": larkmoor.ManagerPassword + "\n", "user.pw": UserPassword + "\n", "feeds.key": estate.FeedsKey, "ca.key": estate.CertifierKey}
	for name, password := range larkmoor.Passwords {
		files[name+".pw"] = password + "\n"
	}
	for name, text := range larkmoor.Charters {
		files[name] = text
	}
	for name, content := range files {
		if err := os.WriteFile(d.File(name), []byte(content), 0o600); err != nil {
			return nil, errors.Join(err, d.Close())
		}
	}
	if err := d.StartService(ctx, 0); err != nil {
		return nil, errors.Join(err, d.Close())
	}
	d.Estate.AnswersAt(d.URL)
	return d, nil
}

// Close ends everything that was started.
func (d *Demo) Close() error {
	err := d.StopService(syscall.SIGTERM)
	if d.Estate != nil {
		err = errors.Join(err, d.Estate.Close())
	}
	return errors.Join(err, d.folder.Close())
}

// Prepare signs in, stores stewards, adds the systems, approves host keys,
// surveys, and takes some accounts into custody.
func (d *Demo) Prepare(ctx context.Context) error {
	host, port := larkmoor.Port(d.Estate.Address)
	steps := [][]string{
		{"login", "--server", d.URL, "--set-up", "--code-file", d.File("setup.code"), "--name", UserName, "--password-file", d.File("user.pw")},
		{"steward", "add", "directory", "--account", larkmoor.ManagerDN, "--password-file", d.File("manager.pw")},
		{"steward", "add", "hosts", "--account", larkmoor.Manager, "--password-file", d.File("manager.pw")},
		{"system", "add", "larkmoor-directory", "--kind", "directory", "--address", host, "--port", fmt.Sprint(port), "--steward", "directory", "--ca-file", d.File("ca.pem"), "--site", "Larkmoor North", "--environment", "production", "--owner", "Directory team"},
		{"steward", "add", "terminals", "--account", `LARKMOOR\` + larkmoor.Manager, "--password-file", d.File("manager.pw")},
		{"system", "import", d.File("hosts.csv"), "--steward", "hosts", "--windows-steward", "terminals", "--windows-signin", "ntlm", "--windows-ca-file", d.File("ca.pem")},
	}
	for name, kind := range map[string]string{"bookings-db": "postgresql", "tide-db": "redis"} {
		host, port := larkmoor.Port(d.Estate.Stores[name])
		steps = append(steps, []string{"system", "add", name, "--kind", kind, "--address", host, "--port", fmt.Sprint(port), "--steward", "hosts", "--ca-file", d.File("ca.pem"), "--site", "Larkmoor North", "--environment", "production", "--owner", "Data team"})
	}
	steps = append(steps, feedSteps(d)...)
	for name, h := range d.Estate.Hosts {
		steps = append(steps, []string{"system", "check", name, "--approve", h.Fingerprint()})
	}
	steps = append(steps, []string{"survey", "run"})
	for _, name := range []string{"svc-berth", "svc-gangway", "svc-manifest", "svc-tidefeed", "svc-quayline", "svc-terminal"} {
		steps = append(steps, []string{"custody", "take", "larkmoor-directory/" + name, "--password-file", d.File(name + ".pw")})
	}
	for _, account := range []string{"bookings-db/svc_bookings", "tide-db/svc_tides"} {
		_, name, _ := strings.Cut(account, "/")
		steps = append(steps, []string{"custody", "take", account, "--password-file", d.File(name + ".pw")})
	}
	steps = append(steps, []string{"custody", "take", "bookings1/svc-fuelcard", "--password-file", d.File("svc-fuelcard.pw")})
	steps = append(append(steps, charterSteps(d)...), []string{"survey", "run"})
	scratch, err := d.scratch()
	if err != nil {
		return err
	}
	steps = append(append(steps, scratch...), append(proof(d), "--detach"))
	for _, args := range steps {
		out, exit, err := d.Moss(ctx, args...)
		if err != nil || exit != 0 && (exit != unread || args[0] != "survey") {
			return fmt.Errorf("moss %s ended with %d: %w\n%s", strings.Join(args, " "), exit, err, out)
		}
	}
	// Monday: the terminals stand still.
	if err := d.expectStack(ctx); err != nil {
		return err
	}
	d.Estate.WeekendPasses()
	d.Estate.Reorganise()
	out, exit, err := d.Moss(ctx, "survey", "run")
	if err != nil || exit != unread {
		return fmt.Errorf("survey ended with %d: %w\n%s", exit, err, out)
	}
	return nil
}

// unread is how a survey of the demo ends: one host is dead, and one misspelt.
const unread = 3

// expectStack gives the last service of the stack on each host its own check.
func (d *Demo) expectStack(ctx context.Context) error {
	out, code, err := d.Moss(ctx, "dependent", "list", "--filter", "name=QuayLineBoarding", "-o", "csv", "--columns", "id,system")
	if err != nil || code != 0 {
		return fmt.Errorf("list the quay line: %w %s", err, out)
	}
	for _, line := range strings.Split(strings.TrimSpace(out), "\n")[1:] {
		id, system, _ := strings.Cut(line, ",")
		if out, code, err := d.Moss(ctx, "dependent", "expect", id, "--http", d.Estate.Board+"/"+system+"/QuayLineBoarding", "--contains", "ready"); err != nil || code != 0 {
			return fmt.Errorf("set the check of %s: %w %s", system, err, out)
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

Four things to try:
  1. moss account show svc-berth              who uses it, and how that is known
  2. moss rotate rehearse svc-berth           what a rotation would do
     moss rotate run svc-berth --reason demo  do it, and watch
  3. moss explain north1/QuayLineBoarding     why a terminal stands still this Monday
     moss explain north1/QuayLineBoarding --repair --reason demo
  4. moss finding list                        what else needs a person here

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
