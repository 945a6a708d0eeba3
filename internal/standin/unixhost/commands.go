package unixhost

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/mattn/go-shellwords"
	"golang.org/x/crypto/ssh"
)

// process is one command that runs.
type process struct {
	*Host
	user    *User
	stdin   io.Reader
	out     bytes.Buffer
	errs    bytes.Buffer
	viaSudo bool
	german  bool

	signedIn *User // who it began with, whatever account runs it now
}

// german is what the host says to people.
var german = strings.NewReplacer("Permission denied", "Keine Berechtigung", "No such file or directory", "Datei oder Verzeichnis nicht gefunden", "a password is required", "Ein Passwort ist notwendig")

// execute runs a command and returns its exit code.
func (h *Host) execute(user string, argv []string, plain bool, channel ssh.Channel) int {
	h.lock.Lock()
	u := h.user(user)
	fault := h.fault
	h.log = append(h.log, user+": "+strings.Join(argv, " "))
	h.lock.Unlock()
	if u == nil {
		return 255
	}
	p := &process{Host: h, user: u, stdin: channel, german: !plain, signedIn: u}
	exit := 0
	if fault.Command != nil {
		if code, words, take := fault.Command(user, argv); take {
			_, _ = io.WriteString(channel.Stderr(), words+"\n")
			return code
		}
	}
	if u.mustChange() {
		_, _ = io.WriteString(channel.Stderr(), "WARNING: Your password has expired.\nPassword change required but no TTY available.\n")
		return 1
	}
	exit = p.run(argv)
	_, _ = channel.Write(p.out.Bytes())
	_, _ = channel.Stderr().Write(p.errs.Bytes())
	return exit
}

func (p *process) fail(exit int, format string, args ...any) int {
	words := fmt.Sprintf(format, args...)
	if p.german {
		words = german.Replace(words)
	}
	fmt.Fprintln(&p.errs, words)
	return exit
}

func (p *process) echo(args []string) int {
	fmt.Fprintln(&p.out, strings.Join(args, " "))
	return 0
}

func (p *process) run(argv []string) int {
	commands := map[string]func([]string) int{
		"sudo": p.sudo, "id": p.id, "cat": p.cat, "sha256sum": p.sha256sum, "getent": p.getent, "passwd": p.passwd, "chage": p.chage, "systemctl": p.systemctl,
		"ls": p.ls, "crontab": p.crontab, "stat": p.stat, "readlink": p.readlink, "realpath": p.readlink, "rm": p.rm, "cp": p.cp, "dd": p.dd, "mv": p.mv,
		"sync": func([]string) int { return 0 }, "chpasswd": p.chpasswd, "journalctl": p.journalctl, "sh": p.shell, "find": p.find, "xargs": p.xargs, "tar": p.tar, "ss": p.ss, "true": func([]string) int { return 0 }, "false": func([]string) int { return 1 }, "echo": p.echo,
		"usermod": p.usermod, "gpasswd": p.gpasswd, "groupadd": p.groupadd, "chmod": p.chmod, "visudo": p.visudo, "getfacl": p.getfacl,
		"userdel": p.userdel, "date": p.date, "df": p.df, "lsattr": p.lsattr, "ps": p.ps, "uname": p.uname, "ip": p.ip,
	}
	for len(argv) > 2 && (path.Base(argv[0]) == "env" || path.Base(argv[0]) == "nice" && argv[1] == "-n") {
		if path.Base(argv[0]) == "nice" {
			argv = argv[1:]
		}
		argv = argv[2:]
	}
	command := commands[path.Base(argv[0])]
	if command == nil {
		return p.fail(127, "sh: 1: %s: not found", argv[0])
	}
	args := argv[1:]
	// systemctl restart blocks and calls back into the host: it locks itself.
	if name := path.Base(argv[0]); name == "systemctl" || name == "sudo" || name == "sh" {
		return command(args)
	}
	p.lock.Lock()
	defer p.lock.Unlock()
	return command(args)
}

func operands(args []string) []string {
	for i, a := range args {
		if a == "--" {
			return args[i+1:]
		}
	}
	var out []string
	for _, a := range args {
		if !strings.HasPrefix(a, "-") {
			out = append(out, a)
		}
	}
	return out
}

func (p *process) sudo(args []string) int {
	if slices.Contains(args, "-U") && !slices.Contains(args[:slices.Index(args, "-U")], "--") {
		return p.listedOf(args)
	}
	list := false
	for len(args) > 0 && strings.HasPrefix(args[0], "-") {
		list = list || args[0] == "-l"
		stop := args[0] == "--"
		args = args[1:]
		if stop {
			break
		}
	}
	if !p.maySudo(args) {
		if list {
			return 1
		}
		return p.fail(1, "sudo: a password is required")
	}
	if list {
		return 0
	}
	if len(args) == 0 {
		return p.fail(1, "usage: sudo")
	}
	asRoot := *p
	asRoot.user = p.Host.rootUser()
	asRoot.viaSudo = true
	exit := asRoot.run(args)
	p.out, p.errs = asRoot.out, asRoot.errs
	return exit
}

func (h *Host) rootUser() *User {
	h.lock.Lock()
	defer h.lock.Unlock()
	return h.user("root")
}

func (p *process) id(args []string) int {
	u := p.user
	if names := operands(args); len(names) > 0 {
		if u = p.Host.user(names[0]); u == nil {
			return p.fail(1, "id: '%s': no such user", names[0])
		}
	}
	if slices.Contains(args, "-Gn") {
		fmt.Fprintln(&p.out, strings.Join(append([]string{u.Name}, u.Groups...), " "))
		return 0
	}
	fmt.Fprintln(&p.out, u.UID)
	return 0
}

func (p *process) open(command, name string) (*File, int) {
	f := p.follow(name)
	if name == "/etc/passwd" {
		f = p.passwdFile()
	}
	switch {
	case f == nil:
		return nil, p.fail(1, "%s: %s: No such file or directory", command, name)
	case f.Dir:
		return nil, p.fail(1, "%s: %s: Is a directory", command, name)
	case !f.may(p.user, 4):
		return nil, p.fail(1, "%s: %s: Permission denied", command, name)
	}
	return f, 0
}

func (p *process) cat(args []string) int {
	exit := 0
	for _, name := range operands(args) {
		f, code := p.open("cat", name)
		if f == nil {
			exit = code
			continue
		}
		p.out.Write(f.Content)
	}
	return exit
}

func (p *process) sha256sum(args []string) int {
	exit := 0
	for _, name := range operands(args) {
		f, code := p.open("sha256sum", name)
		if f == nil {
			exit = code
			continue
		}
		fmt.Fprintf(&p.out, "%x  %s\n", sha256.Sum256(f.Content), name)
	}
	return exit
}

func (u *User) line() string {
	return fmt.Sprintf("%s:x:%d:%d:%s:%s:%s\n", u.Name, u.UID, u.UID, u.Gecos, u.Home, u.Shell)
}

// passwdFile has the host's own users only.
func (p *process) passwdFile() *File {
	f := &File{Mode: 0o644}
	for _, u := range p.users {
		if !u.Directory {
			f.Content = append(f.Content, u.line()...)
		}
	}
	return f
}

func (p *process) getent(args []string) int {
	switch {
	case len(args) == 1 && args[0] == "passwd":
		for _, u := range p.users {
			p.out.WriteString(u.line())
		}
	case len(args) <= 2 && args[0] == "group":
		members := p.groups()
		if len(args) == 2 {
			if _, there := members[args[1]]; !there {
				return 2
			}
		}
		for _, u := range p.users {
			if len(args) == 1 {
				fmt.Fprintf(&p.out, "%s:x:%d:\n", u.Name, u.UID)
			}
		}
		number := 900
		for _, g := range sortedKeys(members) {
			number++
			if len(args) == 2 && args[1] != g {
				continue
			}
			fmt.Fprintf(&p.out, "%s:x:%d:%s\n", g, number, strings.Join(members[g], ","))
		}
	default:
		return p.fail(2, "getent: unknown database")
	}
	return 0
}

func sortedKeys[V any](m map[string]V) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

func (p *process) passwd(args []string) int {
	all := len(args) == 2 && args[1] == "-a"
	switch {
	case p.user.UID != 0 || len(args) != 2 || args[0] != "-S":
		return p.fail(1, "passwd: You may not view or modify password information for root.")
	case all && p.Family == FamilyRHEL:
		return p.fail(1, "passwd: bad argument -a: unknown option")
	}
	for _, u := range p.users {
		if u.Directory || !all && u.Name != args[1] {
			continue
		}
		state, days, layout, words := "L", -1, time.DateOnly, ""
		if u.Password != "" && !u.Locked {
			state = "P"
		}
		switch p.Family {
		case FamilyRHEL:
			state, words = map[string]string{"L": "LK", "P": "PS"}[state], " (Password set, SHA512 crypt.)"
		case FamilySUSE:
			state, layout = map[string]string{"L": "LK", "P": "PS"}[state], "01/02/2006"
		}
		if u.MaxDays > 0 {
			days = u.MaxDays
		}
		fmt.Fprintf(&p.out, "%s %s %s 0 %d 7 -1%s\n", u.Name, state, u.Changed.Format(layout), days, words)
	}
	return 0
}

func (p *process) chage(args []string) int {
	name := args[len(args)-1]
	u := p.Host.user(name)
	if u == nil || p.user.UID != 0 {
		return p.fail(1, "chage: user '%s' does not exist in /etc/passwd", name)
	}
	iso := slices.Contains(args, "-i")
	if iso && p.Family == FamilyRHEL {
		return p.fail(2, "chage: invalid option -- 'i'")
	}
	if len(args) == 3 && args[0] == "-d" {
		return p.changedOn(u, args[1])
	}
	expires, changed := "never", u.Changed.Format(time.DateOnly)
	if !iso {
		changed = u.Changed.Format("Jan 02, 2006")
	}
	if u.mustChange() {
		changed = "password must be changed"
	}
	if u.Expires != "" {
		expires = u.Expires
		if day, err := time.Parse(time.DateOnly, expires); err == nil && !iso {
			expires = day.Format("Jan 02, 2006")
		}
	}
	fmt.Fprintf(&p.out, "Last password change\t\t: %s\nAccount expires\t\t\t: %s\n", changed, expires)
	return 0
}

func (p *process) chpasswd([]string) int {
	if p.user.UID != 0 {
		return p.fail(1, "chpasswd: Permission denied.")
	}
	input, _ := io.ReadAll(io.LimitReader(p.stdin, 64<<10))
	for line := range strings.Lines(string(input)) {
		name, password, found := strings.Cut(strings.TrimRight(line, "\n"), ":")
		u := p.Host.user(name)
		if !found || u == nil {
			return p.fail(1, "chpasswd: (user %s) pam_chauthtok() failed, error:\nAuthentication token manipulation error", name)
		}
		u.Password, u.Changed = password, time.Now().UTC().Truncate(24*time.Hour)
		p.note("chpasswd", "pam_unix(chpasswd:chauthtok): password changed for "+name, p.signedIn, time.Now())
	}
	return 0
}

func (p *process) ls(args []string) int {
	if args[0] == "-n" {
		return p.listProcesses()
	}
	if args[0] == "-ldnULN" {
		return p.lsLong(args)
	}
	dir := operands(args)[0]
	var names []string
	for name := range p.files {
		if path.Dir(name) == dir {
			names = append(names, path.Base(name))
		}
	}
	tables := map[Family]string{"": "/var/spool/cron/crontabs", FamilyRHEL: "/var/spool/cron", FamilySUSE: "/var/spool/cron/tabs"}[p.Family]
	switch {
	case dir == tables:
		if p.user.UID != 0 {
			return p.fail(2, "ls: cannot open directory '%s': Permission denied", dir)
		}
		names = append(names, sortedKeys(p.crontabs)...)
	case dir == path.Dir(tables):
		names = append(names, path.Base(tables), "lastrun")
	case p.files[dir] == nil:
		return p.fail(2, "ls: cannot access '%s': No such file or directory", dir)
	}
	sort.Strings(names)
	for _, name := range names {
		fmt.Fprintln(&p.out, name)
	}
	return 0
}

func (p *process) df([]string) int {
	free := p.Free
	if free == 0 {
		free = 1 << 32
	}
	fmt.Fprintf(&p.out, "Filesystem     1024-blocks      Used Available Capacity Mounted on\n/dev/root         10000000   1000000 %9d      10%% /\n", free>>10)
	return 0
}

func (p *process) lsattr(args []string) int {
	name := operands(args)[0]
	f := p.files[name]
	switch {
	case f == nil:
		return p.fail(1, "lsattr: No such file or directory while trying to stat %s", name)
	case !f.may(p.user, 4):
		return p.fail(1, "lsattr: Permission denied While reading flags on %s", name)
	}
	flags := "--------------e-------"
	if f.Flags != "" {
		flags = "----" + f.Flags + "---------e-------"
	}
	fmt.Fprintln(&p.out, flags, name)
	return 0
}

func (p *process) ps([]string) int {
	for _, name := range append([]string{"systemd", "sshd"}, p.Programs...) {
		fmt.Fprintln(&p.out, name[:min(len(name), 15)])
	}
	return 0
}

func (p *process) crontab(args []string) int {
	name := args[len(args)-1]
	table, found := p.crontabs[name]
	if !found {
		return p.fail(1, "no crontab for %s", name)
	}
	p.out.WriteString(table)
	return 0
}

func (p *process) journalctl(args []string) int {
	if slices.Contains(args, "sshd") {
		p.printJournal(args)
		return 0
	}
	u := p.units[args[len(args)-1]]
	if u == nil || u.Words == "" {
		return 0
	}
	fmt.Fprintln(&p.out, u.Words)
	return 0
}

// shell knows just enough for check commands.
func (p *process) shell(args []string) int {
	if len(args) != 2 || args[0] != "-c" {
		return p.fail(127, "sh: not supported")
	}
	words, err := shellwords.Parse(args[1])
	if err != nil {
		return p.fail(2, "sh: Syntax error: %s", err)
	}
	if len(words) == 2 && words[0] == "exit" {
		code, _ := strconv.Atoi(words[1])
		return code
	}
	if len(words) == 0 {
		return 0
	}
	return p.run(words)
}
