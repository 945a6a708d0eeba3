package reading

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// copies reads the candidate files and reports what they hold.
func (v *visit) copies(ctx context.Context) *connect.Failure {
	paths := v.paths()
	var asked []string
	for _, p := range paths {
		if !v.files[p].found {
			asked = append(asked, p)
		}
	}
	kinds := map[string]string{}
	if len(asked) > 0 {
		kinds = v.stat(ctx, asked)
	}
	var readable []string
	for _, p := range paths {
		if kind := kinds[p]; v.files[p].found || kind == shell.RegularFile || kind == "" || kind == closedFolder {
			readable = append(readable, p)
		}
	}
	contents, changed, failure := v.ReadMany(ctx, readable)
	if failure != nil {
		return failure
	}
	fingerprints := secret.FingerprinterFromKey(v.request.FingerprintKey)
	known := make(map[string]bool, len(v.request.Known))
	for _, f := range v.request.Known {
		known[f] = true
	}
	f := &finder{
		visit: v, fingerprints: fingerprints, batch: v.pending, names: map[string]string{},
		also:    func(value secret.Value) bool { return known[fingerprints.Of(value)] },
		inBytes: held.NewFinder(v.request.Values),
	}
	f.around = append([]string{v.Target.Name, v.Target.Address}, v.request.Names...)
	for _, name := range v.request.Names {
		f.names[strings.ToLower(name)] = name
	}
	for _, p := range v.wholeFilesLast(paths) {
		file, read := contents[p]
		if failure := f.file(ctx, p, kinds[p], file, read, changed[p]); failure != nil {
			return failure
		}
		if len(f.batch.Dependents) > sendAtOnce {
			if failure := v.send(f.batch); failure != nil {
				return failure
			}
			f.batch = connect.Batch{}
		}
	}
	f.programs()
	return v.send(f.batch)
}

const sendAtOnce = 1000

// finder reports what files hold.
type finder struct {
	*visit
	fingerprints *secret.Fingerprinter
	also         func(secret.Value) bool
	batch        connect.Batch
	names        map[string]string // accounts to look for, by their names in lower case
	around       []string          // names of accounts and systems: as values they prove nothing
	inBytes      *held.Finder
}

func (f *finder) problem(place, what, next string) {
	f.batch.Problems = append(f.batch.Problems, connect.Unread{Stage: connect.StageRead, Place: place, What: what, Next: next})
}

// file reports one.
func (f *finder) file(ctx context.Context, p, kind string, file shell.ReadFile, read, changed bool) *connect.Failure {
	c := f.files[p]
	content, there, failure := f.content(ctx, p, c, kind, file, read, changed)
	if failure != nil || !there {
		return failure
	}
	if f.keys(p, file, content) {
		return nil
	}
	located, err := held.Locate(p, content, c.hint, f.also)
	if err != nil {
		if c.must {
			f.problem(p, err.Error(), "")
		}
		f.bytes(p, content, held.Located{})
		return nil
	}
	if located.Layout != layout.Whole {
		for _, namer := range c.namers {
			f.visit.names[namer] = append(f.visit.names[namer], held.NamesIn(p, content, c.hint)...)
		}
	}
	for _, bad := range located.Problems {
		if c.must {
			f.problem(fmt.Sprintf("%s line %d", p, bad.Line), bad.What, "")
		}
	}
	f.spans(p, c, located, content)
	f.bytes(p, content, located)
	return nil
}

// content is what a file holds, where it is one that is read: with rights, if it stands in
// a closed folder. What is in its place is told where somebody names it.
func (f *finder) content(ctx context.Context, p string, c *candidate, kind string, file shell.ReadFile, read, changed bool) ([]byte, bool, *connect.Failure) {
	content := file.Content
	namers := "named by " + strings.Join(c.namers, ", ")
	switch {
	case c.found && !read:
		if changed {
			break
		}
		return nil, false, nil // gone since it was found, or a special file took its place
	case !c.found && kind == "" && !c.must:
		return nil, false, nil
	case kind == closedFolder && !read:
		// The folder is closed to the steward: with rights it may be read all the same.
		r := f.Sudo(ctx, nil, "/usr/bin/cat", "--", p)
		switch failure := f.Failure(connect.StageRead, r, "/usr/bin/cat -- "+p); {
		case failure == nil:
			content, read = r.Out, true
		case failure.Code == connect.CodeGone && !c.must:
			return nil, false, nil
		default:
			return nil, false, f.unreadable(p, c, failure)
		}
	case kind == closedFolder:
	case kind == "directory":
		if c.must {
			f.problem(p, "a directory stands where a file is expected", namers)
		}
		return nil, false, nil
	case kind != "" && kind != shell.RegularFile && kind != emptyFile:
		if c.must {
			f.problem(p, "not a regular file but a "+kind, namers)
		}
		return nil, false, nil
	}
	if changed {
		f.incomplete(connect.ScopeFiles, p+" was written while it was read")
		f.problem(p, "it was written while it was read", "survey this host again")
		return nil, false, nil
	}
	if !read {
		var failure *connect.Failure
		if content, failure = f.ReadFile(ctx, p); failure != nil {
			return nil, false, f.unreadable(p, c, failure)
		}
	}
	return content, true, nil
}

// bytes tells of values in custody that stand in a file although no layout
// says where: what holds the value is a copy (law 13).
func (f *finder) bytes(p string, content []byte, located held.Located) {
	told := map[string]bool{}
	for _, hit := range f.inBytes.Find(content) {
		explained := slices.ContainsFunc(located.Spans, func(s held.Span) bool { return s.Start < hit.End && hit.Start < s.End })
		fingerprint := f.fingerprints.Of(f.request.Values[hit.Value])
		if explained || told[fingerprint+hit.Encoding] {
			continue
		}
		told[fingerprint+hit.Encoding] = true
		if f.holds[p] == nil {
			f.holds[p] = map[string]bool{}
		}
		f.holds[p][fingerprint] = true
		f.batch.Dependents = append(f.batch.Dependents, estate.Dependent{
			Kind: estate.DependentFile, Place: p + "#bytes:" + hit.Encoding + ":" + fingerprint[:8], Name: path.Base(p), Path: p,
			Copy: &estate.Copy{
				Format: estate.FormatBytes, Key: hit.Encoding, Line: 1 + bytes.Count(content[:hit.Start], []byte("\n")), Fingerprint: fingerprint,
				Fixed: "its bytes hold the value (" + hit.Encoding + "), where no known layout explains it",
			},
		})
		f.count(connect.ScopeFiles, 1)
	}
}

func (f *finder) unreadable(p string, c *candidate, failure *connect.Failure) *connect.Failure {
	switch failure.Code {
	case connect.CodeUnreachable, connect.CodeTimeout:
		return failure
	case connect.CodeGone:
		f.problem(p, "the file is not there", "named by "+strings.Join(c.namers, ", "))
		return nil
	}
	f.incomplete(connect.ScopeFiles, failure.Error())
	f.problem(p, failure.Words, failure.Next)
	f.batch.Dependents = append(f.batch.Dependents, estate.Dependent{Kind: estate.DependentFile, Place: p, Name: path.Base(p), Path: p, Copy: &estate.Copy{Format: "unknown", Unreadable: failure.Words}})
	return nil
}

// notInUse are files that no program reads: examples, documentation, backups.
// What they hold counts only when it is a value that somebody could use.
var notInUse = regexp.MustCompile(`(?i)(\.(example|sample|dist|template|tmpl|md|rst|adoc|html?|bak|old|orig|save|dpkg-(old|dist|new)|rpmsave|rpmnew|swp)|~)$|/(doc|docs|examples?|samples?)/|/(README|CHANGELOG|INSTALL)[^/]*$|[._-](example|sample|template)\.[a-z]+$`)

// spans reports the copies in a file, and the accounts that it only mentions.
func (f *finder) spans(p string, c *candidate, located held.Located, content []byte) {
	told := map[string]bool{}
	spare := c.found && notInUse.MatchString(p)
	if c.found && len(located.Spans) > maxSpans {
		f.problem(p, fmt.Sprintf("%d secrets may stand in it: the first %d are told", len(located.Spans), maxSpans), "exclude it, or name it in the list of paths")
		located.Spans = located.Spans[:maxSpans]
	}
	for _, span := range located.Spans {
		fingerprint, known, fixed := f.fingerprints.Of(span.Value), f.also(span.Value), ""
		if span.Part == held.PartVerifier {
			fingerprint, known, fixed = f.derivedOf(span)
		}
		if f.holds[p] == nil {
			f.holds[p] = map[string]bool{}
		}
		f.holds[p][fingerprint] = true
		if spare && !known {
			continue
		}
		if span.Layout == layout.Whole && len(span.Names) == 0 {
			for _, namer := range c.namers {
				if namer != "" {
					span.Names = append(span.Names, f.visit.names[namer]...)
				}
			}
			span.Names = unique(span.Names)
		}
		for _, name := range span.Names {
			for _, word := range nameWord.FindAllString(name, -1) {
				told[strings.ToLower(word)] = true
			}
		}
		f.batch.Dependents = append(f.batch.Dependents, estate.Dependent{
			Kind: estate.DependentFile, Place: p + "#" + span.Locator.String(), Name: path.Base(p), Path: p,
			Copy: &estate.Copy{
				Format: string(span.Layout), Key: span.Key, Nth: span.Nth, Part: span.Part, Line: span.Line,
				Names: span.Names, Fingerprint: fingerprint, Doubt: f.doubt(span), Fixed: fixed,
			},
		})
		f.count(connect.ScopeFiles, 1)
	}
	if strings.HasPrefix(p, "/etc/systemd/") || strings.HasPrefix(p, "/etc/cron") {
		return // units and entries are read for themselves
	}
	for name, line := range f.mentions(content) {
		if told[strings.ToLower(name)] {
			continue
		}
		f.batch.Dependents = append(f.batch.Dependents, estate.Dependent{
			Kind: estate.DependentFile, Place: p + "#mention:" + name, Name: path.Base(p), Path: p,
			Copy: &estate.Copy{Format: estate.FormatMention, Line: line, Names: []string{name}},
		})
		f.count(connect.ScopeFiles, 1)
	}
}

// derivedOf is the fingerprint of the value in custody that a verifier was made of; of the
// verifier itself where it is of none. fixed says why one cannot be compared.
func (f *finder) derivedOf(span held.Span) (fingerprint string, known bool, fixed string) {
	if !held.Comparable(span.Value) {
		return f.fingerprints.Of(span.Value), false, "a SCRAM verifier: it must be the one that the server makes of the new value, so it is not replaced here"
	}
	for _, value := range f.request.Values {
		if held.Same(span.Layout, span.Value, value) {
			return f.fingerprints.Of(value), true, ""
		}
	}
	return f.fingerprints.Of(span.Value), false, ""
}

// doubt says why a value that nothing but its text makes a copy may be none: a
// user name or a database that is called like the password.
func (f *finder) doubt(span held.Span) string {
	if span.Certain || !f.also(span.Value) {
		return ""
	}
	return secret.Weak(span.Value, f.around...)
}

// maxSpans is how many copies are told of one file that nothing names.
const maxSpans = 200

var nameWord = regexp.MustCompile(`[A-Za-z0-9_][A-Za-z0-9_.\-]*[A-Za-z0-9_$]`)

// mentions finds the names of accounts in a text, with the first line of each.
func (f *finder) mentions(content []byte) map[string]int {
	out := map[string]int{}
	if len(f.names) == 0 || len(content) > held.MaxSize {
		return out
	}
	number := 0
	for line := range strings.Lines(string(content)) {
		number++
		for _, word := range nameWord.FindAllString(line, -1) {
			name, found := f.names[strings.ToLower(word)]
			if found && out[name] == 0 {
				out[name] = number
			}
		}
	}
	return out
}
