package unixhost

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// listed files with their permissions, and access lists, by numbers.

// fileOrFolder is what is at a path; folders on the way to files are there without being told.
func (p *process) fileOrFolder(name string) *File {
	if f := p.follow(name); f != nil {
		return f
	}
	prefix := strings.TrimSuffix(name, "/") + "/"
	for at := range p.files {
		if strings.HasPrefix(at, prefix) {
			return &File{Dir: true, Mode: 0o755, Owner: "root"}
		}
	}
	return nil
}

// numbers are those of a file's owner and group.
func (p *process) numbers(f *File) (uid, gid int) {
	if u := p.Host.user(f.Owner); u != nil {
		uid = u.UID
	}
	gid = uid
	if f.Group != "" {
		gid = p.groupNumber(f.Group)
	}
	return uid, gid
}

// groupNumber is the one that getent tells.
func (p *process) groupNumber(name string) int {
	if i := slices.Index(sortedKeys(p.groups()), name); i >= 0 {
		return 901 + i
	}
	if u := p.Host.user(name); u != nil {
		return u.UID
	}
	return 0
}

func (p *process) lsLong(args []string) int {
	exit := 0
	for _, name := range operands(args) {
		f := p.fileOrFolder(name)
		if f == nil {
			exit = p.fail(2, "ls: cannot access '%s': No such file or directory", name)
			continue
		}
		mode := []byte("-rwxrwxrwx")
		if f.Dir {
			mode[0] = 'd'
		}
		for i := range 9 {
			if f.Mode>>(8-i)&1 == 0 {
				mode[1+i] = '-'
			}
		}
		if f.ACL != "" {
			mode = append(mode, '+')
		}
		uid, gid := p.numbers(f)
		fmt.Fprintf(&p.out, "%s 1 %d %d %d 1764000000 %s\n", mode, uid, gid, len(f.Content), name)
	}
	return exit
}

func (p *process) getfacl(args []string) int {
	for _, name := range operands(args) {
		f := p.fileOrFolder(name)
		if f == nil {
			return p.fail(1, "getfacl: %s: No such file or directory", name)
		}
		bits := func(shift int) string {
			out := []byte("rwx")
			for i := range 3 {
				if f.Mode>>shift>>(2-i)&1 == 0 {
					out[i] = '-'
				}
			}
			return string(out)
		}
		uid, gid := p.numbers(f)
		fmt.Fprintf(&p.out, "# file: %s\n# owner: %d\n# group: %d\nuser::%s\n", name, uid, gid, bits(6))
		for entry := range strings.FieldsSeq(f.ACL) {
			kind, rest, _ := strings.Cut(entry, ":")
			who, perms, _ := strings.Cut(rest, ":")
			number := strconv.Itoa(p.groupNumber(who))
			if u := p.Host.user(who); kind == "user" && u != nil {
				number = strconv.Itoa(u.UID)
			} else if kind == "user" {
				number = "1999" // of nobody who is there any more
			}
			fmt.Fprintf(&p.out, "%s:%s:%s\n", kind, number, perms)
		}
		fmt.Fprintf(&p.out, "group::%s\n", bits(3))
		if f.ACL != "" {
			fmt.Fprintln(&p.out, "mask::rwx")
		}
		fmt.Fprintf(&p.out, "other::%s\n\n", bits(0))
	}
	return 0
}
