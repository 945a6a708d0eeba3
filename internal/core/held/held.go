// Package held finds the places in a file where a secret stands and puts
// another value into one of them, leaving every other byte as it was.
//
// A file has a layout (package layout), whose reader gives the values of a file
// with their places. Inside a value the secret may be wrapped: as the password of a URL (RFC 3986,
// section 3.2.1), in a connection string, in base64, in a document of its own.
// The wrappings are steps from the value to the secret, and may follow one
// another.
//
// There is one contract for all of them. Locate gives spans with their
// locators; Find looks one up again; Splice replaces one. After a splice the
// result is read again and compared: a value that the layout cannot carry is
// refused before anything is changed.
package held

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// PartValue is the part of a value that is all of it. Other parts are steps
// such as "url" or "base64/pair", see wrap.go.
const (
	PartValue = "value"
	PartURL   = "url"
)

// MaxSize is the largest file that is read, in bytes.
const MaxSize = 1 << 20

// Locator names a place in a file in a way that survives edits elsewhere.
type Locator struct {
	Layout layout.Layout `json:"layout"`
	Key    string        `json:"key,omitempty"` // empty for LayoutWhole
	Nth    int           `json:"nth,omitempty"` // 0 for the first value with that key
	Part   string        `json:"part"`

	// Of a key tab: the salts that its keys may be made with, one a line, and the number
	// of the keys that the authority has now; 0 where it is not known.
	Salts   string `json:"salts,omitempty"`
	Version int    `json:"version,omitempty"`

	// Where two accounts take turns: the spellings of the one that is named beside the
	// value, one a line, and those of the one that is named there afterwards, in the same
	// order. See Replace.
	Account string `json:"account,omitempty"`
	Next    string `json:"next,omitempty"`
}

// String writes it as it stands in the place of a dependent.
func (l Locator) String() string {
	text := l.Key
	if l.Key == "" {
		text = "content"
	}
	if l.Nth > 0 {
		text += fmt.Sprintf("[%d]", l.Nth+1)
	}
	if l.Part != PartValue {
		text += ":" + l.Part
	}
	return text
}

// Span is one secret found.
type Span struct {
	Locator
	Start, End int // of the raw value in the file, quotes included
	Line       int // 1-based
	Value      secret.Value
	Names      []string // account references that stand beside it
	Certain    bool     // it stands where only a secret stands; else it is one because its value is known
}

// Located is what Locate found.
type Located struct {
	Layout   layout.Layout
	Spans    []Span
	Problems []layout.Problem
}

// readable refuses what is no text, or too much of it.
func readable(content []byte) error {
	if len(content) > MaxSize {
		return fmt.Errorf("%d bytes, at most %d are read", len(content), MaxSize)
	}
	if i := bytes.IndexByte(content, 0); i >= 0 {
		return fmt.Errorf("a NUL byte at byte %d: not a text file", i)
	}
	return nil
}

// Locate reads the content of a file with that path. also tells of a value
// whether it is a secret although nothing says so (its fingerprint is known);
// it may be nil.
func Locate(path string, content []byte, hint layout.Hint, also func(secret.Value) bool) (Located, error) {
	if err := readable(content); err != nil {
		return Located{}, err
	}
	if also == nil {
		also = func(secret.Value) bool { return false }
	}
	var last error
	for _, in := range layout.Choose(path, content, hint) {
		values, problems, err := layout.Scan(content, in)
		if err != nil {
			last = err
			continue
		}
		out := Located{Layout: in, Problems: problems}
		out.spans(values, also)
		if len(out.Spans) == 0 && in != layout.Whole && layout.IsWhole(content) {
			out.whole(path, content, also)
		}
		return out, nil
	}
	if last == nil {
		last = fmt.Errorf("no layout fits")
	}
	return Located{Problems: []layout.Problem{{Line: lineOf(last), What: last.Error()}}}, nil
}

var lineNumber = regexp.MustCompile(`line (\d+)`)

func lineOf(err error) int {
	line := 1
	if m := lineNumber.FindStringSubmatch(err.Error()); m != nil {
		_, _ = fmt.Sscan(m[1], &line)
	}
	return line
}

// spans judges every value.
func (l *Located) spans(values []layout.Value, also func(secret.Value) bool) {
	count := map[string]int{}
	for _, v := range values {
		nth := count[v.Key]
		count[v.Key]++
		if v.Text == "" || !utf8.ValidString(v.Text) {
			continue
		}
		if l.Layout == layout.UserList && v.Name == "password" && isVerifier(v.Text) {
			l.Spans = append(l.Spans, Span{
				Locator: Locator{Layout: l.Layout, Key: v.Key, Nth: nth, Part: PartVerifier}, Start: v.Start, End: v.End, Line: v.Line,
				Value: newVerifier(v.Key, v.Text), Names: []string{v.Key}, Certain: true,
			})
			continue
		}
		found := secretsIn(v.Name, v.Text, also, 0)
		if nth == 1 && len(found) > 0 && !repeats[l.Layout] {
			l.Problems = append(l.Problems, layout.Problem{Line: v.Line, What: fmt.Sprintf("%s stands there more than once; programs use the last one", v.Key)})
		}
		for _, s := range found {
			names := s.names
			if len(names) == 0 {
				names = besideValue(v, values)
			}
			l.Spans = append(l.Spans, Span{
				Locator: Locator{Layout: l.Layout, Key: v.Key, Nth: nth, Part: s.part}, Start: v.Start, End: v.End, Line: v.Line,
				Value: secret.New(s.text), Names: names, Certain: s.certain,
			})
		}
	}
}

var secretFile = regexp.MustCompile(`(?i)(pass(wd|word|phrase)?|secret|token|pw|pwd|credentials?)([._\-]?(txt|file|key))?$`)

// whole takes a file of one line for a value, when it is a known one or the
// file is called so.
func (l *Located) whole(path string, content []byte, also func(secret.Value) bool) {
	values, _, _ := layout.ScanWhole(content)
	base := path[strings.LastIndexByte(path, '/')+1:]
	if v := secret.New(values[0].Text); !also(v) && (!secretFile.MatchString(base) || strings.ContainsAny(values[0].Text, " \t") || layout.AssignItem.MatchString(values[0].Text)) {
		return
	}
	l.Layout, l.Problems = layout.Whole, nil
	l.spans(values, also)
}

// repeats are layouts in which a key may stand several times and all count.
var repeats = map[layout.Layout]bool{layout.PGPass: true, layout.Netrc: true, layout.Unit: true, layout.Cron: true, layout.Shell: true, layout.Code: true, layout.Directives: true, layout.XML: true, layout.UserList: true}

// NamesIn returns the account references that stand in a file under keys that
// name an account.
func NamesIn(path string, content []byte, hint layout.Hint) []string {
	if readable(content) != nil {
		return nil
	}
	var names []string
	for _, in := range layout.Choose(path, content, hint) {
		values, _, err := layout.Scan(content, in)
		if err != nil {
			continue
		}
		for _, v := range values {
			if v.Text != "" && layout.NameKey.MatchString(v.Name) {
				names = append(names, v.Text)
			}
		}
		break
	}
	return names
}

// besideValue returns the neighbours that name an account and share the longest
// prefix with the secret's name: BERTH_PASSWORD goes with BERTH_USER rather
// than with DB_USER. Several at the same distance are all returned. A name that
// another secret is nearer to goes with that one alone.
func besideValue(held layout.Value, values []layout.Value) (out []string) {
	for _, v := range valuesBeside(held, values) {
		out = append(out, v.Text)
	}
	return out
}

func valuesBeside(held layout.Value, values []layout.Value) []layout.Value {
	best, names := -1, []layout.Value(nil)
	for _, v := range values {
		if v.Within != held.Within || v.Text == "" || !layout.NameKey.MatchString(v.Name) || layout.Reference.MatchString(v.Text) {
			continue
		}
		switch n := commonPrefix(held.Name, v.Name); {
		case n > best:
			best, names = n, []layout.Value{v}
		case n == best:
			names = append(names, v)
		}
	}
	var out []layout.Value
	for _, name := range names {
		mine, taken := affinity(held, name), false
		for _, v := range values {
			if v.Within == held.Within && v.Text != "" && layout.IsSecret(v.Name) && !layout.Reference.MatchString(v.Text) && affinity(v, name) > mine {
				taken = true
			}
		}
		if !taken {
			out = append(out, name)
		}
	}
	return out
}

var passwordKey = regexp.MustCompile(`(?i)(pass|passwd|password|passwort|pwd|pw|authtok|masterauth|credential)[_\-]?\d?$`)

// affinity says how much a secret and a name belong together: by what their
// names share, and because names go with passwords rather than with tokens.
func affinity(secret, name layout.Value) int {
	n := 2 * commonPrefix(secret.Name, name.Name)
	if passwordKey.MatchString(secret.Name) || secret.Name == "" {
		n++
	}
	return n
}

// commonPrefix is how much two names share, in whole words.
func commonPrefix(a, b string) int {
	n := 0
	for n < len(a) && n < len(b) && a[n]|0x20 == b[n]|0x20 {
		n++
	}
	for ; n > 0; n-- {
		separated := strings.IndexByte("_-. /", a[n-1]) >= 0
		word := n >= 2 && n < len(a) && n < len(b) && isUpper(a[n]) && isUpper(b[n])
		if separated || word {
			return n
		}
	}
	return 0
}

func isUpper(c byte) bool { return c >= 'A' && c <= 'Z' }
