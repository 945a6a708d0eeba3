package reading

import (
	"context"
	"fmt"
	"path"
	"regexp"
	"sort"
	"strings"
	"time"

	"mvdan.cc/sh/v3/shell"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
)

const unitProperties = "Id,Description,User,Environment,EnvironmentFiles,ExecStart,ActiveState,SubState,UnitFileState,LoadState,LoadError,After,Requires,FragmentPath,DynamicUser,ActiveEnterTimestamp,Result,CanReload"

// ShowArguments asks for times in UTC: systemd writes them in the host's zone,
// whose short name says nothing certain.
var ShowArguments = []string{"/usr/bin/env", "TZ=UTC", "/usr/bin/systemctl", "show", "--no-pager", "--property=" + unitProperties, "--"}

// units reads all services, and which files they name.
func (v *visit) units(ctx context.Context) *connect.Failure {
	listed, failure := v.Output(ctx, connect.StageRead, "/usr/bin/systemctl", "list-unit-files", "--type=service", "--no-legend", "--no-pager", "--plain")
	if failure != nil {
		return failure
	}
	loaded, failure := v.Output(ctx, connect.StageRead, "/usr/bin/systemctl", "list-units", "--type=service", "--all", "--no-legend", "--no-pager", "--plain")
	if failure != nil {
		return failure
	}
	names := unitNames(string(listed) + "\n" + string(loaded))
	if len(names) == 0 {
		return nil
	}
	shown, failure := v.Output(ctx, connect.StageRead, append(append([]string(nil), ShowArguments...), names...)...)
	if failure != nil {
		return failure
	}
	units := ParseShow(string(shown))
	texts, unread, failure := v.unitTexts(ctx, names, units)
	if failure != nil {
		return failure
	}
	credentials, problems := parseUnitTexts(texts)
	holding := unitsHolding(texts)
	var batch connect.Batch
	batch.Problems = append(problems, unread...)
	for _, u := range units {
		if u.Load == "not-found" {
			continue
		}
		if u.Load == "bad-setting" || u.Load == "error" && !strings.Contains(u.loadError, "FileExists") {
			batch.Problems = append(batch.Problems, connect.Unread{Stage: connect.StageRead, Place: u.Place, What: "systemd does not load it: " + u.loadError, Next: "run 'systemd-analyze verify " + u.Path + "' on the host"})
		}
		for _, file := range u.environment {
			v.candidate(file.path, layout.HintEnv, u.Place, !file.optional)
			u.Uses = append(u.Uses, path.Clean(file.path))
		}
		for _, file := range append(credentials[u.Place], credentials[u.Path]...) {
			v.candidate(file, layout.HintCredential, u.Place, true)
			u.Uses = append(u.Uses, path.Clean(file))
		}
		for _, file := range argumentFiles(u.Executable) {
			v.candidate(file.path, file.hint, u.Place, false)
			u.Uses = append(u.Uses, path.Clean(file.path))
		}
		for _, file := range append(holding[u.Place], holding[u.Path]...) {
			v.candidate(file, layout.HintNone, u.Place, false)
			u.Uses = append(u.Uses, file)
		}
		v.names[u.Place] = u.names
		batch.Dependents = append(batch.Dependents, u.Dependent)
	}
	v.count(connect.ScopeUnits, len(batch.Dependents))
	v.pending.Dependents = append(v.pending.Dependents, batch.Dependents...)
	v.pending.Problems = append(v.pending.Problems, batch.Problems...)
	return nil
}

// unitTexts reads the files of all units: LoadCredential is not shown as text.
// The command stops at the first file that it may not read, so it is asked
// again for those behind it; what cannot be read is named, and leaves the
// scope incomplete.
func (v *visit) unitTexts(ctx context.Context, names []string, units []shownUnit) (string, []connect.Unread, *connect.Failure) {
	fragment := map[string]string{}
	for _, u := range units {
		if u.Load != "masked" && u.Load != "not-found" {
			fragment[u.Place] = u.Path
		}
	}
	var texts strings.Builder
	var unread []connect.Unread
	for len(names) > 0 {
		r := v.Run(ctx, nil, append([]string{"/usr/bin/systemctl", "cat", "--no-pager", "--"}, names...)...)
		if r.Err != nil {
			return "", nil, v.Failure(connect.StageRead, r, "systemctl cat")
		}
		texts.Write(r.Out)
		texts.WriteString("\n")
		if r.Exit == 0 {
			break
		}
		if !strings.Contains(r.Errs, "Permission denied") {
			break // of units without files, or masked ones, it says so, and that is all
		}
		stopped := stoppedAt(names, fragment, string(r.Out), r.Errs)
		if stopped < 0 {
			v.incomplete(connect.ScopeUnits, "the text of a unit cannot be read: "+estate.FirstLine(r.Errs))
			unread = append(unread, connect.Unread{Stage: connect.StageRead, Place: "unit files", What: estate.FirstLine(r.Errs), Next: "let the steward read unit files, or survey with more rights"})
			break
		}
		name := names[stopped]
		names = names[stopped+1:]
		what := strings.TrimSpace(r.Errs)
		show := []string{"/usr/bin/systemctl", "cat", "--no-pager", "--", name}
		if r = v.Sudo(ctx, nil, show...); r.Err != nil {
			return "", nil, v.Failure(connect.StageRead, r, "systemctl cat")
		}
		if r.Exit == 0 { // with rights it may be read all the same
			texts.Write(r.Out)
			texts.WriteString("\n")
			continue
		}
		v.incomplete(connect.ScopeUnits, "the text of "+name+" cannot be read, and with it which credentials it loads")
		unread = append(unread, connect.Unread{Stage: connect.StageRead, Place: name, What: "its unit file cannot be read: " + what, Next: "let " + v.Target.Steward.Account + " read the file, or run with sudo: " + strings.Join(show, " ")})
	}
	return texts.String(), unread, nil
}

// stoppedAt finds the unit at which systemctl cat stopped: the one whose file or
// drop-in it names, else the first one with a file whose text did not come. -1
// when it cannot be told.
func stoppedAt(names []string, fragment map[string]string, out, errs string) int {
	for i, name := range names {
		if file := fragment[name]; file != "" && strings.Contains(errs, file+":") || strings.Contains(errs, "/"+name+".d/") {
			return i
		}
	}
	read := map[string]bool{}
	for line := range strings.Lines(out) {
		if file, header := strings.CutPrefix(strings.TrimRight(line, "\n"), "# /"); header {
			read["/"+file] = true
		}
	}
	for i, name := range names {
		if file := fragment[name]; file != "" && !read[file] {
			return i
		}
	}
	return -1
}

func unitNames(text string) []string {
	var out []string
	for line := range strings.Lines(text) {
		f := strings.Fields(strings.TrimPrefix(strings.TrimSpace(line), "● "))
		// A template has no instance yet and runs as nobody.
		if len(f) > 0 && strings.HasSuffix(f[0], ".service") && !strings.HasSuffix(f[0], "@.service") && !strings.HasPrefix(f[0], "-") {
			out = append(out, f[0])
		}
	}
	return unique(out)
}

func unique(in []string) []string {
	sort.Strings(in)
	var out []string
	for i, s := range in {
		if i == 0 || s != in[i-1] {
			out = append(out, s)
		}
	}
	return out
}

type environmentFile struct {
	path     string
	optional bool
}

type shownUnit struct {
	estate.Dependent
	environment     []environmentFile
	Load, loadError string
	names           []string // accounts that its Environment= names
}

// ParseShow reads the blocks of systemctl show, which blank lines separate.
func ParseShow(text string) []shownUnit { //nolint:gocyclo // a property a case
	var out []shownUnit
	for block := range strings.SplitSeq(strings.ReplaceAll(text, "\r\n", "\n"), "\n\n") {
		u := shownUnit{Dependent: estate.Dependent{Kind: estate.DependentUnit, RunsAs: "root"}}
		var sub, result string
		var started time.Time
		for line := range strings.Lines(block) {
			key, value, found := strings.Cut(strings.TrimRight(line, "\n"), "=")
			if !found {
				continue
			}
			switch key {
			case "Id":
				u.Place, u.Name = value, value
			case "Description":
				u.Description = value
			case "User":
				if value != "" {
					u.RunsAs = value
				}
			case "ActiveState":
				u.State = value
			case "SubState":
				sub = value
			case "UnitFileState":
				u.StartMode = value
			case "LoadState":
				u.Load = value
			case "LoadError":
				u.loadError = strings.Trim(value, `"`)
			case "FragmentPath":
				u.Path = value
			case "ActiveEnterTimestamp":
				started, _ = time.Parse("Mon 2006-01-02 15:04:05 MST", value) // empty when it never ran
			case "Result":
				result = value
			case "CanReload":
				u.Reloads = value == "yes"
			case "After", "Requires":
				for name := range strings.FieldsSeq(value) {
					if strings.HasSuffix(name, ".service") {
						u.After = append(u.After, name)
						if key == "Requires" {
							u.Requires = append(u.Requires, name)
						}
					}
				}
			case "Environment":
				if words, err := shell.Fields(value, func(string) string { return "" }); err == nil {
					u.names = held.NamesIn("", []byte(environmentText(words)), layout.HintEnv)
				}
			case "EnvironmentFiles", "EnvironmentFile": // so before version 240 or so
				file, flags, _ := strings.Cut(value, " (")
				u.environment = append(u.environment, environmentFile{file, strings.Contains(flags, "ignore_errors=yes")})
			case "ExecStart":
				if _, argv, found := strings.Cut(value, "argv[]="); found {
					argv, _, _ = strings.Cut(argv, " ; ")
					u.Executable = argv
				}
			}
		}
		if u.State == "failed" || sub == "auto-restart" {
			u.State, u.Result = "failed", result
		}
		if u.Up() {
			u.Started = started.UTC()
		}
		u.After = unique(u.After)
		if u.Place != "" {
			out = append(out, u)
		}
	}
	return out
}

// environmentText writes assignments as an environment file.
func environmentText(words []string) string {
	var out strings.Builder
	for _, word := range words {
		if key, value, found := strings.Cut(word, "="); found && !strings.ContainsAny(value, "\"\n") {
			out.WriteString(key + "=\"" + strings.ReplaceAll(value, `\`, `\\`) + "\"\n")
		}
	}
	return out.String()
}

var credentialLine = regexp.MustCompile(`^\s*LoadCredential(?:Encrypted)?\s*=\s*[^:\s]+:(/\S+)\s*$`)

// parseUnitTexts finds LoadCredential= lines in the output of systemctl cat,
// by the path of the unit file, and by unit name for drop-ins; lines that
// systemd would not understand are reported with file and line.
func parseUnitTexts(text string) (map[string][]string, []connect.Unread) {
	out := map[string][]string{}
	var problems []connect.Unread
	file, number, continued := "", 0, false
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if strings.HasPrefix(line, "# /") {
			file, number, continued = strings.TrimPrefix(line, "# "), 0, false
			continue
		}
		number++
		trimmed := strings.TrimSpace(line)
		wasContinued := continued
		continued = strings.HasSuffix(trimmed, `\`)
		if file == "" || trimmed == "" || trimmed[0] == '#' || trimmed[0] == ';' || wasContinued || sectionHeader.MatchString(trimmed) {
			continue
		}
		if !strings.Contains(trimmed, "=") {
			problems = append(problems, connect.Unread{Stage: connect.StageRead, Place: fmt.Sprintf("%s line %d", file, number), What: "not a setting: systemd ignores this line", Next: "run 'systemd-analyze verify' on it"})
			continue
		}
		if m := credentialLine.FindStringSubmatch(line); m != nil {
			key := file
			if dir := path.Dir(file); strings.HasSuffix(dir, ".service.d") {
				key = strings.TrimSuffix(path.Base(dir), ".d")
			}
			out[key] = append(out[key], m[1])
		}
	}
	return out, problems
}

// unitsHolding finds the unit files and drop-ins that hold a secret themselves,
// by the path of the unit file, and by unit name for drop-ins.
func unitsHolding(text string) map[string][]string {
	out := map[string][]string{}
	file := ""
	var content strings.Builder
	end := func() {
		if path.IsAbs(file) {
			located, err := held.Locate(file, []byte(content.String()), layout.HintNone, nil)
			if err == nil && len(located.Spans) > 0 {
				key := file
				if dir := path.Dir(file); strings.HasSuffix(dir, ".service.d") {
					key = strings.TrimSuffix(path.Base(dir), ".d")
				}
				out[key] = append(out[key], file)
			}
		}
		content.Reset()
	}
	for line := range strings.Lines(text) {
		if name, found := strings.CutPrefix(strings.TrimSpace(line), "# /"); found && strings.Contains(name, ".service") && !strings.Contains(name, " ") {
			end()
			file = "/" + name
			continue
		}
		content.WriteString(line)
	}
	end()
	return out
}

var (
	sectionHeader  = regexp.MustCompile(`^\[[^\]]+\]$`)
	argumentPath   = regexp.MustCompile(`(^|[\s=:"'(])(/(?:etc|opt|srv|var|home|root|data|usr/local/etc)/[^\s"'():;,=]+)`)
	passwordOption = regexp.MustCompile(`(?i)(pass|password|secret|token|credential|pw)[a-z_\-]*(file)?[= "']*$`)
)

type argumentFile struct {
	path string
	hint layout.Hint
}

// argumentFiles finds files that are named on a command line.
func argumentFiles(command string) []argumentFile {
	var out []argumentFile
	for _, m := range argumentPath.FindAllStringSubmatchIndex(command, 40) {
		file := argumentFile{path: command[m[4]:m[5]]}
		if passwordOption.MatchString(command[:m[4]]) {
			file.hint = layout.HintCredential
		}
		out = append(out, file)
	}
	return out
}
