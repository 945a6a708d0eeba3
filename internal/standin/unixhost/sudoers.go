package unixhost

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/core/privilege/sudo"
)

// maySudo answers for a command: by what a test says of the user, else by the rules in the
// host's own files. Without a command it answers whether anything is allowed.
func (p *process) maySudo(args []string) bool {
	if p.user.Sudo != nil && (len(args) == 0 || p.user.Sudo(args)) {
		return true
	}
	p.lock.Lock()
	defer p.lock.Unlock()
	main := p.files["/etc/sudoers"]
	if main == nil {
		return false
	}
	rules := sudo.Parse(sudo.File{Path: "/etc/sudoers", Text: string(main.Content)}, p.Name, p.sudoersFiles)
	who := sudo.User{Name: p.user.Name, UID: strconv.Itoa(p.user.UID), Groups: append([]string{p.user.Name}, p.user.Groups...), GIDs: []string{strconv.Itoa(p.user.UID)}}
	if len(args) == 0 {
		return len(rules.Rules) > 0
	}
	v := rules.Allows(sudo.Host{Name: p.Name}, sudo.Ask{User: who, Command: args[0], Args: args[1:]}, sudo.World{})
	return v.Allowed && v.Unsure == "" && v.NoPassword // there is nobody to ask for one
}

// sudoersFiles reads what the rules include.
func (p *process) sudoersFiles(name string, dir bool) ([]sudo.File, error) {
	if !dir {
		f := p.files[name]
		if f == nil {
			return nil, errors.New("No such file or directory")
		}
		return []sudo.File{{Path: name, Text: string(f.Content)}}, nil
	}
	var out []sudo.File
	for at, f := range p.files {
		// Names with a dot are passed over (sudoers(5), "Including other files").
		if base := path.Base(at); path.Dir(at) == name && !f.Dir && !strings.Contains(base, ".") && !strings.HasSuffix(base, "~") {
			out = append(out, sudo.File{Path: at, Text: string(f.Content)})
		}
	}
	slices.SortFunc(out, func(a, b sudo.File) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

func (p *process) uname([]string) int {
	fmt.Fprintln(&p.out, p.Name)
	return 0
}

func (p *process) ip([]string) int {
	fmt.Fprintln(&p.out, "1: lo    inet 127.0.0.1/8 scope host lo")
	return 0
}
