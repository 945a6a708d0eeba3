package unixhost

import (
	"fmt"
	"slices"
	"strings"
)

func (p *process) systemctl(args []string) int {
	if len(args) == 0 {
		return p.fail(1, "systemctl: no command")
	}
	switch args[0] {
	case "restart", "start":
		return p.systemctlRestart(args)
	case "reload":
		return p.systemctlReload(args[len(args)-1])
	}
	p.lock.Lock()
	defer p.lock.Unlock()
	switch args[0] {
	case "stop":
		return p.stopUnit(args[len(args)-1])
	case "list-unit-files":
		for _, name := range sortedKeys(p.units) {
			fmt.Fprintf(&p.out, "%s %s enabled\n", name, enabled(p.units[name]))
		}
	case "list-units":
		for _, name := range sortedKeys(p.units) {
			u := p.units[name]
			fmt.Fprintf(&p.out, "%s loaded %s running %s\n", name, u.State, u.Description)
		}
	case "show":
		names := operands(args[1:])
		if slices.Equal(names, []string{"*.service"}) {
			names = slices.DeleteFunc(sortedKeys(p.units), func(name string) bool { return !strings.HasSuffix(name, ".service") })
		}
		for i, name := range names {
			if i > 0 {
				p.out.WriteByte('\n')
			}
			p.show(name)
		}
	case "cat":
		for _, name := range operands(args[1:]) {
			file := "/etc/systemd/system/" + name
			if f := p.files[file]; f != nil {
				fmt.Fprintf(&p.out, "# %s\n%s\n", file, f.Content)
			}
		}
	default:
		return p.fail(1, "Unknown command verb %s.", args[0])
	}
	return 0
}

func enabled(u *Unit) string {
	if u.Enabled {
		return "enabled"
	}
	return "disabled"
}

func (p *process) show(name string) {
	u := p.units[name]
	if u == nil {
		fmt.Fprintf(&p.out, "Id=%s\nLoadState=not-found\nActiveState=inactive\nSubState=dead\n", name)
		return
	}
	sub := map[string]string{"active": "running", "failed": "failed"}[u.State]
	if sub == "" {
		sub = "dead"
	}
	fmt.Fprintf(&p.out, "Id=%s\nDescription=%s\nUser=%s\nLoadState=loaded\nActiveState=%s\nSubState=%s\nUnitFileState=%s\nFragmentPath=/etc/systemd/system/%s\n",
		u.Name, u.Description, u.User, u.State, sub, enabled(u), u.Name)
	switch {
	case p.Family != FamilyRHEL: // whose oldest has a systemd that tells no invocations
		fmt.Fprintf(&p.out, "InvocationID=%s\n", u.Invocation)
	case u.State == "active":
		fmt.Fprintf(&p.out, "MainPID=%d\nExecMainStartTimestampMonotonic=%d\n", 1000+len(u.Name), u.started.UnixMicro())
	default:
		fmt.Fprint(&p.out, "MainPID=0\nExecMainStartTimestampMonotonic=0\n")
	}
	fmt.Fprintf(&p.out, "ExecStart={ path=%s ; argv[]=%s ; ignore_errors=no ; status=0/0 }\n", strings.Fields(u.Exec + " -")[0], u.Exec)
	fmt.Fprintf(&p.out, "After=%s\nRequires=%s\n", strings.Join(append([]string{"sysinit.target", "basic.target"}, u.After...), " "), strings.Join(u.After, " "))
	fmt.Fprintf(&p.out, "RequiredBy=%s\nTriggeredBy=%s\n", strings.Join(p.requirers(name), " "), u.TriggeredBy)
	for _, e := range u.Environment {
		ignore := "no"
		if strings.HasPrefix(e, "-") {
			ignore, e = "yes", e[1:]
		}
		fmt.Fprintf(&p.out, "EnvironmentFiles=%s (ignore_errors=%s)\n", e, ignore)
	}
	result := "success"
	if u.State == "failed" {
		result = "exit-code"
	}
	if u.State == "active" && !u.started.IsZero() {
		fmt.Fprintf(&p.out, "ActiveEnterTimestamp=%s\n", u.started.UTC().Format("Mon 2006-01-02 15:04:05 MST"))
	}
	fmt.Fprintf(&p.out, "Result=%s\nCanReload=%s\n", result, map[bool]string{true: "yes", false: "no"}[u.Reload != nil])
}

// requirers are the units that require one: they go down with it.
func (p *process) requirers(name string) (out []string) {
	for _, other := range sortedKeys(p.units) {
		if slices.Contains(p.units[other].After, name) {
			out = append(out, other)
		}
	}
	return out
}

func (p *process) stopUnit(name string) int {
	if p.user.UID != 0 {
		return p.fail(1, "Failed to stop %s: Interactive authentication required.", name)
	}
	u := p.units[name]
	if u == nil {
		return p.fail(5, "Failed to stop %s: Unit %s not loaded.", name, name)
	}
	for _, other := range p.requirers(name) {
		if p.units[other].State == "active" {
			p.units[other].State = "inactive"
		}
	}
	u.State, u.Words = "inactive", ""
	return 0
}

func (p *process) systemctlRestart(args []string) int {
	if p.user.UID != 0 {
		return p.fail(1, "Failed to %s %s: Interactive authentication required.", args[0], args[len(args)-1])
	}
	name := args[len(args)-1]
	p.lock.Lock()
	known := p.units[name] != nil
	p.lock.Unlock()
	if !known {
		return p.fail(5, "Failed to restart %s: Unit %s not found.", name, name)
	}
	if !p.Restart(name) {
		return p.fail(1, "Job for %s failed because the control process exited with error code.", name)
	}
	return 0
}

// systemctlReload has a unit that runs read its files again (systemctl(1), "reload").
func (p *process) systemctlReload(name string) int {
	if p.user.UID != 0 {
		return p.fail(1, "Failed to reload %s: Interactive authentication required.", name)
	}
	p.lock.Lock()
	u := p.units[name]
	var reload func(*Host) error
	active := false
	if u != nil {
		reload, active = u.Reload, u.State == "active"
	}
	p.lock.Unlock()
	switch {
	case u == nil:
		return p.fail(5, "Failed to reload %s: Unit %s not found.", name, name)
	case reload == nil:
		return p.fail(1, "Failed to reload %s: Job type reload is not applicable for unit %s.", name, name)
	case !active:
		return p.fail(1, "%s is not active, cannot reload.", name)
	case reload(p.Host) != nil:
		return p.fail(1, "Job for %s failed.", name)
	}
	return 0
}
