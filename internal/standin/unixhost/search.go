package unixhost

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"net"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/core/estate"
)

// find knows roots, -maxdepth, -fstype, -name and -path with -prune, -type f,
// -size -N (blocks of 512 bytes) and -print0.
func (p *process) find(args []string) int {
	var roots, names, paths []string
	blocks := 1 << 40
	for i := 0; i < len(args); i++ {
		switch args[i] {
		case "-name":
			names = append(names, args[i+1])
			i++
		case "-path":
			paths = append(paths, args[i+1])
			i++
		case "-size":
			blocks = 0
			for _, c := range strings.TrimPrefix(args[i+1], "-") {
				blocks = blocks*10 + int(c-'0')
			}
			i++
		case "-maxdepth", "-fstype", "-type":
			i++
		case "-prune", "-o", "-print0":
		default:
			if strings.HasPrefix(args[i], "-") {
				return p.fail(1, "find: unknown predicate `%s'", args[i])
			}
			roots = append(roots, args[i])
		}
	}
	exit := 0
	for _, name := range sortedKeys(p.files) {
		f := p.files[name]
		inside := slices.ContainsFunc(roots, func(root string) bool { return name == root || strings.HasPrefix(name, root+"/") })
		pruned := slices.ContainsFunc(paths, func(x string) bool { return name == x || strings.HasPrefix(name, x+"/") }) ||
			slices.ContainsFunc(strings.Split(name, "/"), func(part string) bool { return slices.Contains(names, part) })
		if !inside || pruned || f.Dir || f.Symlink != "" || (len(f.Content)+511)/512 >= blocks {
			continue
		}
		if dir := p.files[path.Dir(name)]; dir != nil && !dir.may(p.user, 4) {
			exit = p.fail(1, "find: '%s': Permission denied", path.Dir(name))
			continue
		}
		p.out.WriteString(name + "\x00")
	}
	return exit
}

// input reads what stands on standard input. It comes from the other side: the
// host must not be locked meanwhile.
func (p *process) input() []string {
	p.lock.Unlock()
	text, _ := io.ReadAll(io.LimitReader(p.stdin, 64<<20))
	p.lock.Lock()
	return strings.Split(strings.TrimRight(string(text), "\x00"), "\x00")
}

// xargs gives the words on standard input to grep, as its arguments.
func (p *process) xargs(args []string) int {
	if path.Base(args[len(args)-1]) == "ls" {
		return p.listed()
	}
	if path.Base(args[len(args)-1]) != "grep" {
		return p.fail(127, "xargs: %s: not supported", args[len(args)-1])
	}
	words := p.input()
	if len(words) > 4 && words[0] == "-azsHZiE" {
		return p.grepRecords(words)
	}
	if len(words) < 5 || words[0] != "-lZsIiE" || words[1] != "-e" || words[3] != "--" {
		return p.fail(123, "grep: usage")
	}
	pattern, err := regexp.Compile("(?i)" + strings.ReplaceAll(words[2], "[[:blank:]]", `[ \t]`))
	if err != nil {
		return p.fail(123, "grep: %v", err)
	}
	exit := 123
	for _, name := range words[4:] {
		f := p.follow(name)
		if f == nil || f.Dir || !f.may(p.user, 4) || bytes.IndexByte(f.Content, 0) >= 0 {
			continue
		}
		for line := range bytes.Lines(f.Content) {
			if pattern.Match(bytes.TrimRight(line, "\n")) {
				p.out.WriteString(name + "\x00")
				exit = 0
				break
			}
		}
	}
	return exit
}

// tar archives the files whose names stand on standard input.
func (p *process) tar([]string) int {
	writer := tar.NewWriter(&p.out)
	for _, name := range p.input() {
		f := p.files[name]
		switch {
		case f == nil:
			p.fail(0, "tar: %s: Warning: Cannot stat: No such file or directory", name)
		case f.Dir || f.Symlink != "":
		case !f.may(p.user, 4):
			p.fail(0, "tar: %s: Warning: Cannot open: Permission denied", name)
		default:
			_ = writer.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: int64(f.Mode), Size: int64(len(f.Content)), Uname: f.Owner, Gname: f.Group})
			_, _ = writer.Write(f.Content)
		}
	}
	_ = writer.Close()
	return 0
}

// SetSockets says which sockets the host has, whenever somebody asks.
func (h *Host) SetSockets(list func() []estate.Socket) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.sockets = list
}

// ss lists sockets as -Htanpe does.
func (p *process) ss([]string) int {
	list := p.sockets
	if list == nil {
		return 0
	}
	p.lock.Unlock()
	sockets := list()
	p.lock.Lock()
	for _, s := range sockets {
		state, peer := "ESTAB", net.JoinHostPort(s.Peer, strconv.Itoa(s.PeerPort))
		if s.Listens {
			state, peer = "LISTEN", "0.0.0.0:*"
		}
		program := ""
		if p.user.UID == 0 && s.Program != "" {
			program = fmt.Sprintf(" users:((%q,pid=4711,fd=7))", s.Program)
		}
		fmt.Fprintf(&p.out, "%s 0 0 %s %s%s uid:%s ino:1 sk:1 cgroup:/system.slice/%s <->\n", state, net.JoinHostPort(s.Local, strconv.Itoa(s.LocalPort)), peer, program, s.UID, s.Unit)
	}
	return 0
}
