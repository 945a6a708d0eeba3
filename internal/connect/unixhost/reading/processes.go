package reading

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"al.essio.dev/pkg/shellescape"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
)

// Running programs know more than files do: a value that was put into their
// environment by hand, or on their command line, and the folder they work in.
// proc(5) shows all of it as files, which the command that looks into files
// reads; it is asked for assignments that may hold a secret or name an account.

// listCommand lists files and folders whose names stand on standard input.
var listCommand = []string{"/usr/bin/nice", "-n", "19", "/usr/bin/xargs", "-0", "-r", "-x", "-s", "1900000", "/usr/bin/ls"}

// Limits of reading processes.
const (
	maxProcesses = 20000
	maxOpened    = 2000 // files that programs have open or work beside
)

// running is a process, or several that are alike.
type running struct {
	uid         string
	unit        string // of the system that it belongs to; "" for none
	how         string // it came to be, without a unit
	args        []string
	program     string
	environment map[string]string
	files       []string // it names, has open or works beside
}

// assignment is what is read of an environment: what may be a secret, wrap one,
// or name an account beside one.
const assignment = `^[^=]*(pass|pwd|pw|secret|token|cred|key|auth|user|login|logon|account|principal|bind|dn|dsn|ur[il]|conn|database)[^=]*=|://[^/]*:[^/]*@`

// helpers are programs of ours, seen while they run.
// Others only stand around a program that they started, with the same words.
var helpers = map[string]bool{"runuser": true, "su": true, "setsid": true, "nohup": true, "timeout": true, "setpriv": true, "grep": true, "xargs": true, "nice": true, "env": true, "sudo": true, "ls": true, "sshd": true, "sshd-session": true}

// processes reads what runs.
func (v *visit) processes(ctx context.Context) *connect.Failure {
	r := v.Run(ctx, nil, "/usr/bin/ls", "-n", "/proc")
	if failure := v.Failure(connect.StageRead, r, "/usr/bin/ls -n /proc"); failure != nil && len(r.Out) == 0 {
		return failure
	}
	ids, all := listed(string(r.Out))
	plain, failure := v.proc(ctx, "", ids, "cmdline", "cgroup")
	if failure != nil {
		return failure
	}
	for _, p := range plain {
		if p.file == "cmdline" {
			all[p.id].args = append(all[p.id].args, p.text)
		} else if all[p.id].how == "" && all[p.id].unit == "" {
			all[p.id].unit, all[p.id].how = ownerOf(p.text)
		}
	}
	ids = slices.DeleteFunc(ids, func(id string) bool {
		return len(all[id].args) == 0 || helpers[path.Base(all[id].args[0])] || all[id].how == "cron"
	})
	pattern := assignment
	for _, name := range v.request.Names[:min(len(v.request.Names), maxNames)] {
		pattern += "|" + regexp.QuoteMeta(name)
	}
	assigned, failure := v.proc(ctx, pattern, ids, "environ")
	if failure != nil {
		return failure
	}
	for _, p := range assigned {
		if key, value, found := strings.Cut(p.text, "="); found && key != "" && key != "PWD" && key != "OLDPWD" { // folders
			all[p.id].environment[key] = value
		}
	}
	for _, id := range ids {
		v.running = append(v.running, all[id])
		for _, file := range argumentFiles(strings.Join(all[id].args, " ")) {
			all[id].files = append(all[id].files, path.Clean(file.path))
		}
	}
	if failure := v.opened(ctx, ids, all); failure != nil {
		return failure
	}
	for _, p := range v.running {
		p.files = unique(p.files)
		for _, file := range p.files {
			v.candidate(file, layout.HintNone, "a running program", false)
		}
	}
	v.count(connect.ScopeProcesses, len(v.running))
	return nil
}

// listed are the processes of a listing of /proc, with whose they are.
func listed(listing string) (ids []string, all map[string]*running) {
	all = map[string]*running{}
	for line := range strings.Lines(listing) {
		f := strings.Fields(line)
		if len(f) < 9 {
			continue
		}
		if _, err := strconv.Atoi(f[len(f)-1]); err == nil && len(ids) < maxProcesses {
			ids = append(ids, f[len(f)-1])
			all[f[len(f)-1]] = &running{uid: f[2], environment: map[string]string{}}
		}
	}
	return ids, all
}

// procLine is one line of a file below /proc.
type procLine struct{ id, file, text string }

// proc reads lines of files of processes. What ended meanwhile is passed over.
func (v *visit) proc(ctx context.Context, pattern string, ids []string, files ...string) ([]procLine, *connect.Failure) {
	if len(ids) == 0 {
		return nil, nil
	}
	var input strings.Builder
	input.WriteString("-azsHZiE\x00-e\x00" + pattern + "\x00--\x00")
	for _, id := range ids {
		for _, file := range files {
			input.WriteString("/proc/" + id + "/" + file + "\x00")
		}
	}
	r, full := v.Elevated(ctx, searchOutput, []byte(input.String()), grepCommand...)
	if r.Err != nil {
		return nil, v.Failure(connect.StageRead, r, "grep")
	}
	if !full && pattern != "" {
		v.incomplete(connect.ScopeProcesses, "the environment of running programs is closed: allow "+v.Target.Steward.Account+" to run with sudo: "+strings.Join(grepCommand, " "))
	}
	if len(r.Out) == 0 && pattern == "" { // every process has a control group
		v.incomplete(connect.ScopeProcesses, "nothing could be read of running programs: "+estate.FirstLine(r.Errs))
	}
	var out []procLine
	fields := strings.Split(string(r.Out), "\x00")
	for i := 0; i+1 < len(fields); i += 2 {
		parts := strings.Split(fields[i], "/")
		if len(parts) != 4 || parts[1] != "proc" {
			return out, v.Target.Fail(connect.StageRead, connect.CodeProtocol, fmt.Sprintf("grep answered for %q, which was not asked", fields[i]), "", nil)
		}
		out = append(out, procLine{parts[2], parts[3], fields[i+1]})
	}
	return out, nil
}

var systemUnit = regexp.MustCompile(`/system\.slice/(?:[^/]+\.slice/)*([^/]+\.service)`)

// ownerOf reads a cgroup file (cgroups(7)): the unit, or how the process came
// to be without one.
func ownerOf(text string) (unit, how string) {
	for line := range strings.Lines(text) {
		_, group, found := strings.Cut(strings.TrimSpace(line), "::")
		if !found { // of version 1: name=systemd
			if _, group, found = strings.Cut(strings.TrimSpace(line), ":name=systemd:"); !found {
				continue
			}
		}
		m := systemUnit.FindStringSubmatch(group)
		switch {
		case strings.Contains(group, "docker-") || strings.Contains(group, "libpod-") || strings.Contains(group, "cri-containerd-") || strings.Contains(group, "kubepods"):
			return "", "in a container"
		case m == nil:
			return "", "by hand"
		case m[1] == "cron.service" || m[1] == "crond.service":
			return "", "cron"
		case m[1] == "ssh.service" || m[1] == "sshd.service":
			return "", "by hand"
		}
		return m[1], ""
	}
	return "", "by hand"
}

var (
	listedLink   = regexp.MustCompile(`^l\S+\s+\d+\s+(\d+)\s.*?("(?:[^"\\]|\\.)*") -> ("(?:[^"\\]|\\.)*")$`)
	listedFile   = regexp.MustCompile(`^-\S+\s+\d+\s+\d+\s+\d+\s+(\d+)\s.*?("(?:[^"\\]|\\.)*")$`)
	listedFolder = regexp.MustCompile(`^("(?:[^"\\]|\\.)*"):$`)
	// settings are names of files in which a program may keep what it needs.
	settings = regexp.MustCompile(`(?i)\.(env|conf|cnf|cfg|ini|ya?ml|json|toml|properties|xml|config|secret|pw|key|pem|keytab)$`)
)

func (v *visit) list(ctx context.Context, options string, paths []string) (string, bool, *connect.Failure) {
	if len(paths) == 0 {
		return "", true, nil
	}
	input := options + "\x00--quoting-style=c\x00--\x00" + strings.Join(paths, "\x00") + "\x00"
	r, full := v.Elevated(ctx, searchOutput, []byte(input), listCommand...)
	if r.Err != nil {
		return "", full, v.Failure(connect.StageRead, r, "ls")
	}
	return string(r.Out), full, nil
}

// opened finds the files that programs have open, and those in the folders
// they work in, as far as the search does not look there anyway.
func (v *visit) opened(ctx context.Context, ids []string, all map[string]*running) *connect.Failure {
	var asked []string
	for _, id := range ids {
		asked = append(asked, "/proc/"+id+"/cwd", "/proc/"+id+"/exe", "/proc/"+id+"/fd")
	}
	text, full, failure := v.list(ctx, "-nU", asked)
	if failure != nil && failure.Code == connect.CodeProtocol { // it comes on top: a host with very many open files is read for all the rest
		v.pending.Problems = append(v.pending.Problems, connect.Unread{Stage: connect.StageRead, Place: "running programs", What: "too many open files to look at: " + failure.Words})
		return nil
	}
	if failure != nil {
		return failure
	}
	if !full || text == "" && len(asked) > 0 {
		v.pending.Problems = append(v.pending.Problems, connect.Unread{
			Stage: connect.StageRead, Place: "running programs", What: "the files that they have open and the folders that they work in are not shown",
			Next: "allow " + v.Target.Steward.Account + " to run with sudo: " + strings.Join(listCommand, " "),
		})
	}
	folders := map[string][]string{} // with the processes that work there
	files := map[string][]string{}
	within := ""
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		if m := listedFolder.FindStringSubmatch(line); m != nil {
			within, _ = strconv.Unquote(m[1])
			continue
		}
		m := listedLink.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		name, _ := strconv.Unquote(m[2])
		to, _ := strconv.Unquote(m[3])
		at := strings.Split(path.Join(within, name), "/")
		switch {
		case len(at) < 4 || all[at[2]] == nil:
		case at[3] == "exe":
			all[at[2]].program = to
		case !v.unsearched(to):
		case at[3] == "cwd":
			folders[to] = append(folders[to], at[2])
		case settings.MatchString(to):
			files[to] = append(files[to], at[2])
		}
	}
	return v.beside(ctx, folders, files, all)
}

// unsearched: a path of the host's own that the search does not look into.
func (v *visit) unsearched(p string) bool {
	if !path.IsAbs(p) || p == "/" || strings.HasSuffix(p, " (deleted)") {
		return false
	}
	for _, root := range []string{"/proc", "/dev", "/sys", "/run", "/tmp", "/usr", "/boot"} {
		if p == root || strings.HasPrefix(p, root+"/") {
			return false
		}
	}
	roots := listOption(v.Target, OptionSearch)
	if len(roots) == 0 && v.Target.Options[OptionSearch] != "off" {
		roots = searchRoots
	}
	return !slices.ContainsFunc(append(roots, listOption(v.Target, OptionExclude)...), func(root string) bool { return p == root || strings.HasPrefix(p, root+"/") })
}

// beside lists folders and files, and gives those that are small enough to the
// processes that use them.
func (v *visit) beside(ctx context.Context, folders, files map[string][]string, all map[string]*running) *connect.Failure {
	var asked []string
	for p := range folders {
		asked = append(asked, p+"/")
	}
	for p := range files {
		asked = append(asked, p)
	}
	sort.Strings(asked)
	text, _, failure := v.list(ctx, "-nLA", asked)
	if failure != nil {
		return failure
	}
	within, count := "", 0
	if len(asked) == 1 && len(folders) == 1 { // ls names a single folder nowhere
		within = asked[0]
	}
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		if m := listedFolder.FindStringSubmatch(line); m != nil {
			within, _ = strconv.Unquote(m[1])
			continue
		}
		m := listedFile.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		size, _ := strconv.Atoi(m[1])
		name, err := strconv.Unquote(m[2])
		if err != nil || size > held.MaxSize || size == 0 || binary.MatchString(name) {
			continue
		}
		users := files[name]
		if within != "" {
			users = folders[strings.TrimSuffix(within, "/")]
			name = path.Join(within, name)
		}
		if count++; count > maxOpened {
			v.pending.Problems = append(v.pending.Problems, connect.Unread{Stage: connect.StageRead, Place: within, What: fmt.Sprintf("more than %d files stand where programs work: the rest was not looked into", maxOpened), Next: "name the files in the option " + OptionPaths})
			return nil
		}
		for _, id := range users {
			all[id].files = append(all[id].files, name)
		}
	}
	return nil
}

var interpreters = regexp.MustCompile(`^(python|perl|ruby|node|java|php|bash|sh|dash)[0-9.]*$`)

// programOf is what runs: of an interpreter the script. file is the program's
// own, when that is known.
func programOf(args []string, file string) string {
	if interpreters.MatchString(path.Base(args[0])) {
		for _, a := range args[1:] {
			if !strings.HasPrefix(a, "-") {
				if path.IsAbs(a) {
					return a
				}
				break
			}
		}
	}
	if path.IsAbs(args[0]) || file == "" {
		return strings.TrimSuffix(args[0], ":")
	}
	return strings.TrimSuffix(file, " (deleted)")
}

// programs reports the values that running programs hold and that no file they
// read explains, and programs without a unit that read a copy.
func (f *finder) programs() {
	seen := map[string]bool{}
	for _, p := range f.running {
		program := programOf(p.args, p.program)
		d := estate.Dependent{Kind: estate.DependentProcess, Name: path.Base(program), Path: program, State: "running", RunsAs: f.users[p.uid]}
		owner := p.unit
		if p.unit != "" {
			d.Requires = []string{p.unit}
			d.Description = "a program of " + p.unit
		} else {
			owner = strings.TrimSpace(program + " " + p.how)
			d.Description = "started " + p.how
		}
		add := func(what string, copied *estate.Copy, uses []string) {
			one := d
			one.Place, one.Copy, one.Uses = owner+what, copied, uses
			if !seen[one.Place] {
				seen[one.Place] = true
				f.batch.Dependents = append(f.batch.Dependents, one)
			}
		}
		environment, err := json.Marshal(p.environment)
		if err == nil && len(p.environment) > 0 {
			f.values(p, "environment", "environment.json", environment, add)
		}
		if text := shellescape.QuoteCommand(p.args); !strings.ContainsAny(text, "\x00") && len(text) < held.MaxSize {
			f.values(p, "arguments", "arguments.sh", []byte(text+"\n"), add)
		}
		var uses []string
		for _, file := range p.files {
			if len(f.holds[file]) > 0 {
				uses = append(uses, file)
			}
		}
		if p.unit == "" && len(uses) > 0 {
			add("", nil, uses)
		}
	}
}

func (f *finder) values(p *running, format, name string, content []byte, add func(string, *estate.Copy, []string)) {
	located, err := held.Locate(name, content, layout.HintNone, f.also)
	if err != nil {
		return
	}
	for _, span := range located.Spans {
		fingerprint := f.fingerprints.Of(span.Value)
		if format == "environment" && f.explained(p, fingerprint) {
			continue
		}
		key := strings.TrimPrefix(span.Key, "/")
		add("#"+format+":"+key, &estate.Copy{Format: format, Key: key, Nth: span.Nth, Part: span.Part, Names: span.Names, Fingerprint: fingerprint}, nil)
	}
}

// explained: a file that the process reads, or its unit, holds the same value.
func (f *finder) explained(p *running, fingerprint string) bool {
	for file, holds := range f.holds {
		if holds[fingerprint] && (slices.Contains(p.files, file) || p.unit != "" && (slices.Contains(f.unitFiles[p.unit], file) || strings.Contains(file, "/"+p.unit+".d/"))) {
			return true
		}
	}
	return false
}
