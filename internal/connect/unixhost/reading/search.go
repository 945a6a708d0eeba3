package reading

import (
	"context"
	"fmt"
	"path"
	"regexp"
	"sort"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/connect/unixhost/witness"
	"mossledger.example/moss/internal/core/layout"
)

// Options of the search for copies that nothing on the host names.
const (
	OptionSearch  = "search"         // folders to search, separated by ;, or "off"
	OptionExclude = "search-exclude" // folders and files to leave out, separated by ;
)

// Limits of the search. A folder deeper, or a file larger, is not read; more
// files than the limit leave the search incomplete, which is told.
const (
	searchDepth   = "16"
	searchSize    = "-2049" // blocks of 512 bytes: up to held.MaxSize
	searchFiles   = 400000
	searchOutput  = 64 << 20
	grepArguments = 1_780_000 // bytes of arguments of one command, with their addresses: execve(2) takes 2 MiB
	grepTime      = 5 * time.Minute
	maxNames      = 2000
	maxFound      = 20000 // files that are read in the end
)

// searchRoots are the places where programs keep what they need to sign in,
// whatever they were installed from.
var searchRoots = []string{"/etc", "/opt", "/srv", "/home", "/root", "/usr/local", "/var/www", "/var/lib", "/data", "/app"}

// searchExcludes are folders that hold no configuration, but much else.
var (
	excludedPaths = []string{"/etc/ssl/certs", "/etc/selinux", "/etc/alternatives", "/usr/local/share/man", "/var/lib/dpkg", "/var/lib/apt", "/var/lib/rpm", "/var/lib/docker/overlay2", "/var/lib/containers/storage/overlay", "/var/lib/systemd", "/var/lib/postgresql", "/var/lib/mysql", "/var/lib/redis"}
	excludedNames = []string{".git", "node_modules", "__pycache__", "site-packages"}
	foreignKinds  = []string{"nfs", "nfs4", "cifs", "proc", "sysfs", "cgroup2", "devtmpfs"}
	// ownFiles are read for what they say by other means.
	ownFiles = regexp.MustCompile(`^/etc/(passwd|group|shadow|gshadow|subuid|subgid)-?$|^/etc/(sudoers|ssh/sshd?_config|ssh/moduli|ssh/ssh_host_)`)
	binary   = regexp.MustCompile(`(?i)\.(png|jpe?g|gif|ico|svg|webp|pdf|docx?|xlsx?|gz|bz2|xz|zst|zip|7z|jar|war|rpm|deb|so|so\.[0-9.]+|a|o|pyc|pyo|class|exe|dll|bin|iso|img|mo|ttf|woff2?|eot|mp[34]|avi|sqlite3?|db|pack|idx|log|log\.\d+)$`)
	named    = regexp.MustCompile(`(?i)(pass|secret|cred|token|\bpw\b|\.pw$|\.pgpass|netrc|\.my\.cnf|keytab)`)
)

// Expressions are asked only of the few names that may match them: a host has
// hundreds of thousands.
var (
	binaryEndings = map[string]bool{}
	tellingParts  = []string{"pass", "secret", "cred", "token", "pw", "netrc", ".my.cnf", "keytab", "/.ssh/", "authorized_keys", ".key", ".pem", ".crt", ".cer", ".ppk", ".p12", ".pfx", ".jks", ".bcfks"}
)

func init() {
	for ending := range strings.FieldsSeq(`png jpg jpeg gif ico svg webp pdf doc docx xls xlsx gz bz2 xz zst zip 7z jar war rpm deb so a o pyc pyo class exe dll bin iso img mo ttf woff woff2 eot mp3 mp4 avi sqlite sqlite3 db pack idx log`) {
		binaryEndings[ending] = true
	}
}

// isBinary says the same as the expression binary.
func isBinary(base string) bool {
	dot := strings.LastIndexByte(base, '.')
	if dot < 0 {
		return false
	}
	ending := base[dot+1:]
	if binaryEndings[ending] || binaryEndings[strings.ToLower(ending)] {
		return true
	}
	return ending != "" && ending[0] >= '0' && ending[0] <= '9' && binary.MatchString(base)
}

// telling: the path has something that named or keyFile may ask for.
func telling(p string) bool {
	p = strings.ToLower(p)
	for _, part := range tellingParts {
		if strings.Contains(p, part) {
			return true
		}
	}
	return false
}

// words are what stands before or around a secret; they are no references.
const words = `(pass|passwd|password|passphrase|passwort|pwd|pw|secret|token|credentials?|authtok|masterauth|userpwd|user_?pass|(api|access|account|shared)[_.-]?key)[_0-9]*[]"')}]*[[:blank:]]*([=:>,{]|$)` +
	`|(bindpw|requirepass|masterauth|password|authtok)[[:blank:]]+[^[:blank:]]` +
	`|(name|key)=["'][^"']*(pass|pwd|secret|token)` +
	`|://[^/[:blank:]]*:[^/[:blank:]]*@|@(tcp6?|unix)\(|/[^/@[:blank:]]+@[^[:blank:]/]+[:/]` +
	`|basic[[:blank:]]+[a-z0-9+/]{8}|["']?auth["']?[[:blank:]]*[:=]` +
	`|(mysql|mariadb)[a-z-]*[[:blank:]].*-p|redis-cli.*-a|-u[[:blank:]]*["']?[a-z][^[:blank:]:]*:[^/]|^user[[:blank:]].*[[:blank:]]>[^[:blank:]]|^[^#[:blank:]]*[@.\[][^[:blank:]]*[[:blank:]]+[^[:blank:]:]+:[^[:blank:]]+$` +
	`|^[[:blank:]]*"[^"]+"[[:blank:]]+"[^"]` +
	`|-----BEGIN [A-Z ]*PRIVATE KEY-----`

func listOption(target connect.Target, name string) []string {
	var out []string
	for p := range strings.SplitSeq(target.Options[name], ";") {
		if p = strings.TrimSpace(p); path.IsAbs(p) {
			out = append(out, path.Clean(p))
		}
	}
	return out
}

// findArguments is one fixed command for a system, without any character that
// a sudoers line reads as a pattern.
func findArguments(target connect.Target) []string {
	roots := listOption(target, OptionSearch)
	if len(roots) == 0 {
		roots = searchRoots
	}
	argv := append([]string{"/usr/bin/nice", "-n", "19", "/usr/bin/find"}, roots...)
	// Files first: what follows is asked of folders only.
	argv = append(argv, "-maxdepth", searchDepth, "-type", "f", "-size", searchSize, "-print0", "-o", "-type", "f")
	for _, kind := range foreignKinds {
		argv = append(argv, "-o", "-fstype", kind, "-prune")
	}
	for _, name := range excludedNames {
		argv = append(argv, "-o", "-name", name, "-prune")
	}
	for _, p := range append(append([]string(nil), excludedPaths...), listOption(target, OptionExclude)...) {
		argv = append(argv, "-o", "-path", p, "-prune")
	}
	return argv
}

// SearchRights are the commands that a visit runs with rights beside those that
// concern single files, as lines for sudoers(5). None of them can write.
func SearchRights(options map[string]string) []string {
	target := connect.Target{Options: options}
	escape := strings.NewReplacer(",", `\,`, ":", `\:`, "=", `\=`)
	var out []string
	for _, argv := range [][]string{findArguments(target), grepCommand, listCommand, shell.TarCommand, socketCommand, witness.Command} {
		out = append(out, escape.Replace(strings.Join(argv, " ")))
	}
	return out
}

// grepCommand takes everything else from standard input: what to look for and
// where. It can only read.
var grepCommand = []string{"/usr/bin/nice", "-n", "19", "/usr/bin/xargs", "-0", "-r", "-x", "-s", "1900000", "/usr/bin/grep"}

// search looks for files that may hold copies, or that mention an account, in
// the places where programs keep them. It takes a handful of commands: one
// lists the files, some look into them, and what they find is read with the
// files that units and entries name. Names of accounts travel on standard
// input, secrets never.
func (v *visit) search(ctx context.Context) *connect.Failure {
	if v.Target.Options[OptionSearch] == "off" {
		return nil
	}
	argv := findArguments(v.Target)
	began := time.Now()
	r, full := v.Elevated(ctx, searchOutput, nil, argv...)
	if r.Err != nil {
		return v.Failure(connect.StageRead, r, "find")
	}
	rested := time.NewTimer(time.Since(began) * restShare / 10) // while what it said is sorted
	defer rested.Stop()
	if !full {
		v.incomplete(connect.ScopeFiles, "the search for copies has no rights: "+closedFolders(r.Errs))
		v.pending.Problems = append(v.pending.Problems, connect.Unread{
			Stage: connect.StageRead, Place: "search for copies", What: closedFolders(r.Errs),
			Next: "allow " + v.Target.Steward.Account + " to run it with sudo: " + strings.Join(argv, " "),
		})
	}
	var looked []string
	for p := range strings.SplitSeq(strings.TrimRight(string(r.Out), "\x00"), "\x00") {
		base := path.Base(p)
		switch {
		case p == "" || ownFiles.MatchString(p) || v.files[p] != nil || strings.HasSuffix(base, ".moss-new"):
		case isBinary(base):
		case telling(p) && (named.MatchString(base) || keyFile.MatchString(p)):
			v.found(p)
		default:
			looked = append(looked, p)
		}
	}
	if len(looked) > searchFiles {
		v.incomplete(connect.ScopeFiles, fmt.Sprintf("%d files to search, at most %d are: name fewer folders in the option %s", len(looked), searchFiles, OptionSearch))
		looked = looked[:searchFiles]
	}
	v.homesElsewhere()
	sort.Strings(looked)
	select {
	case <-rested.C:
	case <-ctx.Done():
	}
	return v.lookInto(ctx, looked)
}

// homesElsewhere are homes that the search does not look into: who may sign in
// there, and with which keys, is read all the same.
func (v *visit) homesElsewhere() {
	for home := range v.homes {
		if !v.unsearched(home) {
			continue
		}
		for _, name := range []string{"authorized_keys", "authorized_keys2", "id_rsa", "id_ecdsa", "id_ed25519", "id_dsa"} {
			v.found(path.Join(home, ".ssh", name))
		}
	}
}

// SearchPattern is what files are looked into for: words that stand around
// secrets, and the names of accounts.
func SearchPattern(names []string) string {
	pattern := words
	for _, name := range names[:min(len(names), maxNames)] {
		pattern += "|" + regexp.QuoteMeta(name)
	}
	return pattern
}

func (v *visit) found(p string) {
	v.candidate(p, layout.HintNone, "", false)
	v.files[p].found = true
}

// argumentCost is what an argument takes beside its letters: its end and its
// address.
const argumentCost = 1 + 8

// restShare, in tenths of what a command took, is the rest after it: the host
// gives at most half a processor.
const restShare = 12

// lookInto asks grep which files hold what, and rests between two commands.
func (v *visit) lookInto(ctx context.Context, files []string) *connect.Failure {
	pattern := SearchPattern(v.request.Names)
	ctx, cancel := context.WithTimeout(ctx, grepTime)
	defer cancel()
	count := 0
	for len(files) > 0 {
		var input strings.Builder
		input.WriteString("-lZsIiE\x00-e\x00" + pattern + "\x00--\x00")
		n, size := 0, input.Len()
		for n < len(files) && size+len(files[n])+argumentCost <= grepArguments {
			input.WriteString(files[n] + "\x00")
			size += len(files[n]) + argumentCost
			n++
		}
		if n == 0 {
			return v.Target.Fail(connect.StageRead, connect.CodeFailed, fmt.Sprintf("too many names of accounts to look for: %d bytes", size), "", nil)
		}
		files = files[n:]
		began := time.Now()
		r, _ := v.Elevated(ctx, searchOutput, []byte(input.String()), grepCommand...)
		if r.Err != nil || r.Exit != 0 && r.Exit != 123 && len(r.Out) == 0 { // 123: nothing found, or a file that is gone
			return v.Failure(connect.StageRead, r, "grep")
		}
		for p := range strings.SplitSeq(strings.TrimRight(string(r.Out), "\x00"), "\x00") {
			if p != "" && count < maxFound {
				count++
				v.found(p)
			}
		}
		if len(files) > 0 {
			select {
			case <-time.After(time.Since(began) * restShare / 10):
			case <-ctx.Done():
				v.incomplete(connect.ScopeFiles, fmt.Sprintf("the search for copies took longer than %s: %d files were not looked into", grepTime, len(files)))
				return nil
			}
		}
	}
	if count >= maxFound {
		v.incomplete(connect.ScopeFiles, fmt.Sprintf("more than %d files may hold copies", maxFound))
	}
	return nil
}

// closedFolders sums up what find could not enter.
func closedFolders(errs string) string {
	n, first := 0, ""
	for line := range strings.Lines(errs) {
		if strings.Contains(line, "Permission denied") {
			n++
			if first == "" {
				first = strings.TrimSpace(line)
			}
		}
	}
	switch n {
	case 0:
		return "files that only root may read were not looked into"
	case 1:
		return "one folder could not be entered: " + first
	}
	return fmt.Sprintf("%d folders could not be entered, the first: %s", n, first)
}
