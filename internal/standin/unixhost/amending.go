package unixhost

import (
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/privilege/sudo"
)

// What changes who may do what: groups and the files of sudo. It is for root alone.

// groups are those of the host with their members, whether they have any or not.
func (p *process) groups() map[string][]string {
	members := map[string][]string{}
	for _, g := range p.Groups {
		members[g] = nil
	}
	for _, u := range p.users {
		for _, g := range u.Groups {
			members[g] = append(members[g], u.Name)
		}
	}
	return members
}

func (p *process) usermod(args []string) int {
	if p.user.UID != 0 {
		return p.fail(1, "usermod: Permission denied.")
	}
	if len(args) > 1 && args[0] != "-aG" {
		return p.life(args)
	}
	if len(args) != 3 {
		return p.fail(2, "Usage: usermod [options] LOGIN")
	}
	u := p.Host.user(args[2])
	if u == nil {
		return p.fail(6, "usermod: user '%s' does not exist", args[2])
	}
	if _, there := p.groups()[args[1]]; !there {
		return p.fail(6, "usermod: group '%s' does not exist", args[1])
	}
	if !slices.Contains(u.Groups, args[1]) {
		u.Groups = append(slices.Clone(u.Groups), args[1])
	}
	return 0
}

func (p *process) gpasswd(args []string) int {
	switch {
	case p.user.UID != 0:
		return p.fail(1, "gpasswd: Permission denied.")
	case len(args) != 3 || args[0] != "-d":
		return p.fail(2, "Usage: gpasswd [option] GROUP")
	}
	u := p.Host.user(args[1])
	if _, there := p.groups()[args[2]]; !there {
		return p.fail(1, "gpasswd: group '%s' does not exist in /etc/group", args[2])
	}
	if u == nil || !slices.Contains(u.Groups, args[2]) {
		return p.fail(3, "gpasswd: user '%s' is not a member of '%s'", args[1], args[2])
	}
	u.Groups = slices.DeleteFunc(slices.Clone(u.Groups), func(g string) bool { return g == args[2] })
	p.Groups = append(p.Groups, args[2]) // it stays, without members
	return 0
}

func (p *process) groupadd(args []string) int {
	if p.user.UID != 0 {
		return p.fail(10, "groupadd: Permission denied.")
	}
	name := args[len(args)-1]
	if _, there := p.groups()[name]; there {
		return p.fail(9, "groupadd: group '%s' already exists", name)
	}
	p.Groups = append(p.Groups, name)
	return 0
}

func (p *process) chmod(args []string) int {
	names := operands(args)
	if len(args) == 0 || len(names) == 0 {
		return p.fail(1, "chmod: missing operand")
	}
	for _, name := range names {
		f := p.files[name]
		switch {
		case f == nil:
			return p.fail(1, "chmod: cannot access '%s': No such file or directory", name)
		case p.user.UID != 0 && f.Owner != p.user.Name:
			return p.fail(1, "chmod: changing permissions of '%s': Operation not permitted", name)
		}
		var mode uint32
		if _, err := fmt.Sscanf(args[0], "%o", &mode); err != nil {
			return p.fail(1, "chmod: invalid mode: '%s'", args[0])
		}
		f.Mode = mode
	}
	return 0
}

// visudo checks a file, or all that sudo reads.
func (p *process) visudo(args []string) int {
	if p.user.UID != 0 {
		return p.fail(1, "visudo: /etc/sudoers: Permission denied")
	}
	name := "/etc/sudoers"
	if i := slices.Index(args, "-f"); i >= 0 && i+1 < len(args) {
		name = args[i+1]
	}
	f := p.files[name]
	if f == nil {
		return p.fail(1, "visudo: unable to open %s: No such file or directory", name)
	}
	if read := sudo.Parse(sudo.File{Path: name, Text: string(f.Content)}, p.Name, p.sudoersFiles); len(read.Problems) > 0 {
		return p.fail(1, "%s: syntax error", read.Problems[0].Place)
	}
	return 0
}

// listedOf is sudo -l -U USER -u AS -- COMMAND: what somebody else may run.
func (p *process) listedOf(args []string) int {
	if p.user.UID != 0 {
		return p.fail(1, "Sorry, user %s is not allowed to execute 'list' as root.", p.user.Name)
	}
	var of string
	var command []string
	for i := 0; i < len(args); i++ {
		switch args[i] {
		case "-U":
			i++
			of = args[min(i, len(args)-1)]
		case "-u":
			i++
		case "--":
			command = args[i+1:]
			i = len(args)
		}
	}
	p.lock.Lock()
	u := p.Host.user(of)
	p.lock.Unlock()
	if u == nil {
		return p.fail(1, "sudo: unknown user %s", of)
	}
	other := *p
	other.user = u
	if len(command) == 0 || !other.maySudo(command) {
		return 1
	}
	fmt.Fprintln(&p.out, strings.Join(command, " "))
	return 0
}

// Sudoers is all that sudo reads, one file after the other.
func (h *Host) Sudoers() string {
	h.lock.Lock()
	defer h.lock.Unlock()
	var out strings.Builder
	for _, name := range sortedKeys(h.files) {
		if name == "/etc/sudoers" || strings.HasPrefix(name, "/etc/sudoers.d/") {
			fmt.Fprintf(&out, "# %s\n%s", name, h.files[name].Content)
		}
	}
	return out.String()
}
