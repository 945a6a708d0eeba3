package unixhost

import (
	"fmt"
	"io"
	"strings"
)

func (p *process) stat(args []string) int {
	exit, follow := 0, args[0] == "-L"
	for _, name := range operands(args) {
		f := p.files[name]
		if follow {
			f = p.follow(name)
		}
		if f == nil {
			exit = p.fail(1, "stat: cannot statx '%s': No such file or directory", name)
			continue
		}
		mode := 0x8000 | uint32(f.Mode)&0o7777
		switch {
		case f.Dir:
			mode = 0x4000 | mode&0o7777
		case f.Symlink != "":
			mode = 0xa1ff
		}
		switch all := strings.Join(args, " "); {
		case strings.Contains(all, "%C"):
			label := f.Label
			if label == "" {
				label = "?"
			}
			fmt.Fprintln(&p.out, label)
			continue
		case strings.Contains(all, "-c %f "):
			fmt.Fprintf(&p.out, "%x\n", mode)
			continue
		}
		if strings.Contains(strings.Join(args, " "), "%h|%f") {
			fmt.Fprintf(&p.out, "%d|%x\n", f.Links, mode)
		} else {
			fmt.Fprintf(&p.out, "%x|%d|%s\n", mode, len(f.Content), name)
		}
	}
	return exit
}

func (p *process) readlink(args []string) int {
	for _, name := range operands(args) {
		fmt.Fprintln(&p.out, p.real(name))
	}
	return 0
}

func (p *process) rm(args []string) int {
	for _, name := range operands(args) {
		if f := p.files[name]; f != nil && !f.may(p.user, 2) {
			return p.fail(1, "rm: cannot remove '%s': Permission denied", name)
		}
		delete(p.files, name)
	}
	return 0
}

func (p *process) cp(args []string) int {
	names := operands(args)
	f, code := p.open("cp", names[0])
	if f == nil {
		return code
	}
	if p.user.UID != 0 && f.Owner != p.user.Name {
		return p.fail(1, "cp: cannot create regular file '%s': Permission denied", names[1])
	}
	copied := *f
	copied.Content = append([]byte(nil), f.Content...)
	copied.Links = 1
	if p.LosesLabels {
		copied.Label = "system_u:object_r:etc_t:s0"
	}
	p.files[names[1]] = &copied
	return 0
}

func (p *process) dd(args []string) int {
	name := ""
	for _, a := range args {
		if v, found := strings.CutPrefix(a, "of="); found {
			name = v
		}
	}
	// The input comes from the other side: the host must not be locked.
	p.lock.Unlock()
	content, err := io.ReadAll(io.LimitReader(p.stdin, 4<<20))
	p.lock.Lock()
	f := p.files[name]
	if f == nil && p.user.UID == 0 && name != "" {
		f = &File{Mode: 0o644, Owner: "root", Links: 1}
		p.files[name] = f
	}
	if err != nil || f == nil || !f.may(p.user, 2) {
		return p.fail(1, "dd: failed to open '%s': Permission denied", name)
	}
	f.Content = content
	return 0
}

func (p *process) mv(args []string) int {
	names := operands(args)
	f := p.files[names[0]]
	if f == nil {
		return p.fail(1, "mv: cannot stat '%s': No such file or directory", names[0])
	}
	if p.user.UID != 0 && f.Owner != p.user.Name {
		return p.fail(1, "mv: cannot move '%s': Permission denied", names[0])
	}
	p.files[names[1]] = f
	delete(p.files, names[0])
	return 0
}
