package unixhost

import (
	"bytes"
	"fmt"
	"path"
	"regexp"
	"sort"
	"strconv"
	"strings"
)

// Process is a program that runs on the host, as proc(5) shows it.
type Process struct {
	PID         int
	User        string
	Group       string // its control group; "" for a session of a person
	Args        []string
	Environment []string
	Folder      string
	Open        []string
}

// AddProcess adds one.
func (h *Host) AddProcess(r Process) {
	if r.Group == "" {
		r.Group = "/user.slice/user-1000.slice/session-3.scope"
	}
	records := func(list []string) []byte {
		var out bytes.Buffer
		for _, s := range list {
			out.WriteString(s + "\x00")
		}
		return out.Bytes()
	}
	folder := "/proc/" + strconv.Itoa(r.PID)
	h.Write(folder, File{Dir: true, Mode: 0o555, Owner: r.User})
	h.Write(folder+"/cmdline", File{Mode: 0o444, Owner: r.User, Content: records(r.Args)})
	h.Write(folder+"/cgroup", File{Mode: 0o444, Owner: r.User, Content: []byte("0::" + r.Group + "\n")})
	h.Write(folder+"/environ", File{Mode: 0o400, Owner: r.User, Content: records(r.Environment)})
	h.Write(folder+"/fd", File{Dir: true, Mode: 0o500, Owner: r.User})
	h.Write(folder+"/cwd", File{Symlink: r.Folder, Owner: r.User, Mode: 0o777})
	for i, p := range r.Open {
		h.Write(fmt.Sprintf("%s/fd/%d", folder, i+3), File{Symlink: p, Owner: r.User, Mode: 0o500})
	}
}

// grepRecords is grep -azsHZiE: records end with NUL, and so do file names.
func (p *process) grepRecords(words []string) int {
	pattern, err := regexp.Compile("(?i)" + words[2])
	if err != nil {
		return p.fail(123, "grep: %v", err)
	}
	exit := 123
	for _, name := range words[4:] {
		f := p.files[name]
		if f == nil || f.Dir || !f.may(p.user, 4) {
			continue
		}
		for record := range bytes.SplitSeq(bytes.TrimSuffix(f.Content, []byte{0}), []byte{0}) {
			if pattern.Match(record) {
				fmt.Fprintf(&p.out, "%s\x00%s\x00", name, record)
				exit = 0
			}
		}
	}
	return exit
}

// listed is ls -n with --quoting-style=c, of paths on standard input: links and
// files first, then folders.
func (p *process) listed() int {
	words := p.input()
	if len(words) < 4 || !strings.HasPrefix(words[0], "-n") || words[1] != "--quoting-style=c" || words[2] != "--" {
		return p.fail(123, "ls: usage")
	}
	line := func(name string, f *File) {
		kind, to := "-", ""
		if f.Symlink != "" && !strings.Contains(words[0], "L") {
			kind, to = "l", " -> "+strconv.Quote(f.Symlink)
		} else if f.Dir {
			kind = "d"
		}
		fmt.Fprintf(&p.out, "%srw------- 1 0 0 %d Nov 23 16:00 %s%s\n", kind, len(f.Content), strconv.Quote(name), to)
	}
	var folders []string
	for _, name := range words[3:] {
		clean := strings.TrimSuffix(name, "/")
		switch f := p.files[clean]; {
		case f == nil && p.under(clean) == nil:
			p.fail(2, "ls: cannot access %q: No such file or directory", name)
		case f == nil || f.Dir:
			if f != nil && !f.may(p.user, 4) {
				p.fail(2, "ls: cannot open directory %q: Permission denied", name)
				continue
			}
			folders = append(folders, name)
		default:
			line(name, f)
		}
	}
	for _, name := range folders {
		if len(words) > 4 {
			fmt.Fprintf(&p.out, "\n%s:\n", strconv.Quote(name))
		}
		p.out.WriteString("total 0\n")
		for _, child := range p.under(strings.TrimSuffix(name, "/")) {
			line(path.Base(child), p.files[child])
		}
	}
	return 0
}

// under lists what stands in a folder.
func (p *process) under(folder string) []string {
	var out []string
	for name := range p.files {
		if path.Dir(name) == folder {
			out = append(out, name)
		}
	}
	sort.Strings(out)
	return out
}

// listProcesses is ls -n /proc.
func (p *process) listProcesses() int {
	for _, name := range p.under("/proc") {
		uid := 0
		if u := p.Host.user(p.files[name].Owner); u != nil {
			uid = u.UID
		}
		fmt.Fprintf(&p.out, "dr-xr-xr-x 9 %d %d 0 Nov 23 16:00 %s\n", uid, uid, path.Base(name))
	}
	return 0
}
