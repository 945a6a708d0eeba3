// Package reading is what a visit of a unix host reads: accounts, units, cron, files that
// may hold copies, processes and what they hold, sockets, recorded sign-ins. It changes
// nothing.
package reading

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"sort"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/rights"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
)

// visit reads one host.
type visit struct {
	*shell.Session
	request  connect.VisitRequest
	emit     func(connect.Batch) error
	coverage *connect.Coverage
	files    map[string]*candidate // by path
	pending  connect.Batch         // units and cron entries, until the real paths of their files are known
	homes    map[string]string     // account by home folder
	names    map[string][]string   // accounts that a unit's environment names, by unit

	users     map[string]string          // names of accounts by user id
	running   []*running                 // processes
	listens   []estate.Socket            // connections and ports
	certified []string                   // names in certificates that stand in files
	unitFiles map[string][]string        // that a unit is made of, or reads
	holds     map[string]map[string]bool // fingerprints by file
}

// Options of what is read.
const (
	OptionPaths = "paths" // further files, separated by ;
	OptionMaybe = "maybe" // the same, which need not be there
)

// candidate is a file that may hold copies, with who names it.
type candidate struct {
	hint   layout.Hint
	namers []string
	must   bool // a missing file is a problem
	found  bool // by the search: nothing names it
}

// Visit reads a host. Each scope is read as far as it goes; one
// that fails leaves the others alone.
func Visit(ctx context.Context, target connect.Target, request connect.VisitRequest, emit func(connect.Batch) error) (connect.Coverage, error) {
	watch := connect.NewStopwatch()
	coverage := connect.NewCoverage()
	s, failure := shell.SignIn(ctx, target, watch)
	if failure == nil {
		defer s.Close()
		if failure = s.ReadFacts(ctx); failure != nil {
			watch.Fail(failure)
		}
	}
	if failure != nil {
		coverage.Stages = watch.Stages()
		for _, scope := range []string{connect.ScopeAccounts, connect.ScopeUnits, connect.ScopeCron, connect.ScopeFiles, connect.ScopeSockets, connect.ScopeProcesses, connect.ScopeCertificates} {
			coverage.Why[scope] = failure.Error()
		}
		return coverage, failure
	}
	coverage.Facts = s.Facts
	v := &visit{Session: s, request: request, emit: emit, coverage: &coverage, files: map[string]*candidate{}, names: map[string][]string{}, homes: map[string]string{}, users: map[string]string{}, unitFiles: map[string][]string{}, holds: map[string]map[string]bool{}}
	for _, p := range strings.Split(target.Options[OptionPaths], ";") {
		if p = strings.TrimSpace(p); path.IsAbs(p) {
			v.candidate(p, layout.HintNone, "the list of paths of this system", true)
		}
	}
	for _, p := range listOption(s.Target, OptionMaybe) {
		v.candidate(p, layout.HintNone, "the paths of all systems like this one", false)
	}
	scopes := []struct {
		name string
		read func(context.Context) *connect.Failure
	}{
		{connect.ScopeAccounts, v.accounts},
		{connect.ScopeUnits, v.units},
		{connect.ScopeCron, v.cron},
		{connect.ScopeSockets, v.sockets},
		{connect.ScopeProcesses, v.processes},
	}
	var first *connect.Failure
	for _, scope := range scopes {
		failure := scope.read(ctx)
		coverage.Complete[scope.name] = failure == nil && coverage.Why[scope.name] == ""
		if failure != nil {
			coverage.Why[scope.name] = failure.Error()
			if first == nil {
				first = failure
			}
		}
	}
	if failure := v.journal(ctx); failure != nil && first == nil {
		first = failure
	}
	failure = v.handOver(ctx)
	// Which files there are to read follows from the units and entries.
	coverage.Complete[connect.ScopeFiles] = failure == nil && coverage.Why[connect.ScopeFiles] == "" && coverage.Complete[connect.ScopeUnits] && coverage.Complete[connect.ScopeCron]
	if failure != nil {
		coverage.Why[connect.ScopeFiles] = failure.Error()
		if first == nil {
			first = failure
		}
	} else if !coverage.Complete[connect.ScopeFiles] {
		v.incomplete(connect.ScopeFiles, "units or cron entries, which name the files, were not read completely")
	}
	// Ports are asked for the names that files have certificates for.
	failure = v.shown(ctx)
	coverage.Complete[connect.ScopeCertificates] = failure == nil && coverage.Why[connect.ScopeCertificates] == ""
	if failure != nil {
		coverage.Why[connect.ScopeCertificates] = failure.Error()
		first = cmp.Or(first, failure)
	}
	if first != nil {
		watch.Fail(first)
		coverage.Stages = watch.Stages()
		return coverage, first
	}
	if request.Rights {
		of, err := rights.Read(ctx, s, emit)
		if err != nil { // what depends on credentials is known all the same
			of.Complete, of.Why = false, err.Error()
		}
		coverage.Rights = &of
	}
	watch.OK(connect.StageRead, fmt.Sprintf("%d accounts, %d units, %d cron entries, %d copies", coverage.Counts[connect.ScopeAccounts],
		coverage.Counts[connect.ScopeUnits], coverage.Counts[connect.ScopeCron], coverage.Counts[connect.ScopeFiles]))
	coverage.Stages = watch.Stages()
	return coverage, nil
}

// handOver gives units and entries away once the real paths of their files are known,
// until when nothing of them counts as read, and reads what those files hold.
func (v *visit) handOver(ctx context.Context) *connect.Failure {
	failure := v.followLinks(ctx)
	for _, d := range v.pending.Dependents {
		v.unitFiles[d.Place] = append(append([]string(nil), d.Uses...), d.Path)
	}
	if failure == nil {
		failure = v.send(v.pending)
		v.pending = connect.Batch{}
	}
	if failure != nil {
		for _, scope := range []string{connect.ScopeUnits, connect.ScopeCron} {
			v.coverage.Complete[scope] = false
			v.incomplete(scope, failure.Error())
		}
	} else if failure = v.search(ctx); failure == nil {
		failure = v.copies(ctx)
	}
	if failure != nil { // what a program holds is told from what its files hold
		v.coverage.Complete[connect.ScopeProcesses] = false
		v.incomplete(connect.ScopeProcesses, "the files that explain what programs hold were not read")
	}
	return failure
}

func (v *visit) count(scope string, n int) { v.coverage.Counts[scope] += n }

// incomplete notes that a scope was not read to its end although nothing failed.
func (v *visit) incomplete(scope, why string) {
	if v.coverage.Why[scope] == "" {
		v.coverage.Why[scope] = why
	}
}

func (v *visit) send(batch connect.Batch) *connect.Failure {
	for _, d := range batch.Dependents {
		if d.Kind == estate.DependentCertificate {
			v.certified = append(v.certified, d.Key.Names...)
		}
	}
	if err := v.emit(batch); err != nil {
		var f *connect.Failure
		if errors.As(err, &f) {
			return f
		}
		return v.Target.Fail(connect.StageRead, connect.CodeFailed, "what was read could not be taken in: "+err.Error(), "", err)
	}
	return nil
}

func (v *visit) candidate(p string, hint layout.Hint, namer string, must bool) {
	p = path.Clean(p)
	c := v.files[p]
	if c == nil {
		c = &candidate{}
		v.files[p] = c
	}
	if c.hint == layout.HintNone {
		c.hint = hint
	}
	c.must = c.must || must
	c.namers = append(c.namers, namer)
}

func (v *visit) paths() []string {
	var out []string
	for p := range v.files {
		out = append(out, p)
	}
	sort.Strings(out)
	return out
}

// wholeFilesLast puts files of one value behind the others: the names that
// belong to them stand in those.
func (v *visit) wholeFilesLast(paths []string) []string {
	sorted := append([]string(nil), paths...)
	sort.SliceStable(sorted, func(i, j int) bool {
		return v.files[sorted[i]].hint != layout.HintCredential && v.files[sorted[j]].hint == layout.HintCredential
	})
	return sorted
}

// followLinks takes two paths of one file together: a copy is replaced once.
func (v *visit) followLinks(ctx context.Context) *connect.Failure {
	paths := v.paths()
	if len(paths) == 0 {
		return nil
	}
	r := v.Run(ctx, nil, append([]string{"/usr/bin/realpath", "-m", "--"}, paths...)...)
	switch failure := v.Failure(connect.StageRead, r, "realpath"); {
	case failure == nil:
	case failure.Code == connect.CodeUnreachable || failure.Code == connect.CodeTimeout:
		return failure
	default:
		// A host whose realpath is another one: what names the files is known all the same.
		words := "links are not followed, for realpath says: " + failure.Words
		v.incomplete(connect.ScopeFiles, words)
		v.pending.Problems = append(v.pending.Problems, connect.Unread{Stage: connect.StageRead, Place: "paths of files", What: words, Next: "a file that is named by two paths may be told twice: install the realpath of GNU coreutils to have all of it"})
		return nil
	}
	real := strings.Split(strings.TrimRight(string(r.Out), "\n"), "\n")
	if len(real) != len(paths) {
		return v.Target.Fail(connect.StageRead, connect.CodeProtocol, fmt.Sprintf("realpath answered %d lines for %d paths", len(real), len(paths)), "", nil)
	}
	is := map[string]string{}
	for i, p := range paths {
		is[p] = real[i]
		if real[i] == p {
			continue
		}
		from := v.files[p]
		delete(v.files, p)
		for _, namer := range from.namers {
			v.candidate(real[i], from.hint, namer, from.must)
		}
	}
	for _, r := range v.running {
		for i, p := range r.files {
			if is[p] != "" {
				r.files[i] = is[p]
			}
		}
	}
	for i := range v.pending.Dependents {
		uses := v.pending.Dependents[i].Uses
		for j, p := range uses {
			if is[p] != "" {
				uses[j] = is[p]
			}
		}
		v.pending.Dependents[i].Uses = unique(uses)
	}
	return nil
}

// closedFolder is the kind of paths in a folder that the steward may not enter:
// nobody knows what stands there.
const closedFolder = "path in a closed folder"

// emptyFile is the kind of files that hold nothing, and need not be read.
const emptyFile = "regular empty file"

// tooLarge is the kind of files that are not read.
const tooLarge = "file of more than 1 MiB"

// stat tells the kinds of files, following symlinks. With rights, because the
// folders of secrets are often closed.
func (v *visit) stat(ctx context.Context, paths []string) map[string]string {
	out := map[string]string{}
	argv := append([]string{"/usr/bin/stat", "-L", "-c", "%f|%s|%n", "--"}, paths...)
	for _, reply := range []shell.Reply{v.Run(ctx, nil, argv...)} {
		for line := range strings.Lines(reply.Errs) {
			// stat: cannot statx '/path': Permission denied
			if rest, denied := strings.CutSuffix(strings.TrimSpace(line), "': Permission denied"); denied {
				if _, p, found := strings.Cut(rest, " '"); found {
					out[p] = closedFolder
				}
			}
		}
		for line := range strings.Lines(string(reply.Out)) {
			fields := strings.SplitN(strings.TrimRight(line, "\n"), "|", 3)
			if len(fields) != 3 {
				continue
			}
			out[fields[2]] = shell.KindOf(fields[0])
			if fields[1] == "0" && out[fields[2]] == shell.RegularFile {
				out[fields[2]] = emptyFile
			}
			if size, err := strconv.Atoi(fields[1]); err == nil && size > held.MaxSize && out[fields[2]] == shell.RegularFile {
				out[fields[2]] = tooLarge
			}
		}
	}
	return out
}
