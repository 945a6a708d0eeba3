// Package held finds the places in a file where a secret stands and puts
// another value into one of them, leaving every other byte as it was.
//
// A file has a layout: environment file, key = value lines, directives,
// properties, JSON, YAML, TOML, XML, system unit, crontab, shell script,
// constants of a program, password file of a client, or one value and nothing
// else. A layout's reader gives the values of a file with their places. Inside
// a value the secret may be wrapped: as the password of a URL (RFC 3986,
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

	"mossledger.example/moss/internal/core/secret"
)

// Layout of a file.
type Layout string

// Layouts that are read.
const (
	LayoutEnv        Layout = "env"        // KEY=value with shell-like quotes, as systemd reads EnvironmentFile=
	LayoutConf       Layout = "conf"       // key = value, maybe in [sections]
	LayoutDirectives Layout = "directives" // keyword, blank, value
	LayoutProperties Layout = "properties" // java.util.Properties
	LayoutJSON       Layout = "json"       // RFC 8259; the key is a JSON pointer (RFC 6901)
	LayoutYAML       Layout = "yaml"       // a YAML stream; the key is a pointer of the same form
	LayoutTOML       Layout = "toml"       // TOML 1.0; the key is a pointer of the same form
	LayoutXML        Layout = "xml"        // XML 1.0; the key is a path of elements
	LayoutUnit       Layout = "unit"       // systemd.syntax(7)
	LayoutCron       Layout = "cron"       // crontab(5)
	LayoutShell      Layout = "shell"      // a shell script
	LayoutCode       Layout = "code"       // constants of a program
	LayoutPGPass     Layout = "pgpass"     // host:port:database:user:password
	LayoutNetrc      Layout = "netrc"      // machine, login, password
	LayoutWhole      Layout = "whole"      // one value and nothing else
	LayoutPEM        Layout = "pem"        // private keys (RFC 7468); the locator's number says which
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
	Layout Layout `json:"layout"`
	Key    string `json:"key,omitempty"` // empty for LayoutWhole
	Nth    int    `json:"nth,omitempty"` // 0 for the first value with that key
	Part   string `json:"part"`
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

// Problem is a line that could not be read.
type Problem struct {
	Line int
	What string
}

// Located is what Locate found.
type Located struct {
	Layout   Layout
	Spans    []Span
	Problems []Problem
}

// Hint says how the file was named, which helps to tell the layout.
type Hint string

// Hints.
const (
	HintNone       Hint = ""
	HintEnv        Hint = "env"        // EnvironmentFile=
	HintCredential Hint = "credential" // LoadCredential=, --password-file and the like
)

// value is one value of a file with its place. Every layout's reader gives
// these.
type value struct {
	key        string // where it stands, in the layout's terms
	name       string // what it is called; "" in lists
	within     string // what its neighbours share
	start, end int    // of the raw text, quotes included
	line       int
	text       string // decoded
}

// layout is how one is read and written.
type layout struct {
	scan   func(content []byte) ([]value, []Problem, error)
	encode func(text string, old []byte, at value, content []byte) (string, error)
	text   bool // the content must be valid UTF-8
}

var layouts map[Layout]layout

func init() { // the readers refer to layouts by nesting
	layouts = map[Layout]layout{
		LayoutEnv:        {scan: scanEnv, encode: encodeEnv},
		LayoutConf:       {scan: scanConf, encode: encodeConf},
		LayoutDirectives: {scan: scanDirectives, encode: encodeDirective},
		LayoutProperties: {scan: scanProperties, encode: encodeProperty},
		LayoutJSON:       {scan: scanJSON, encode: func(text string, _ []byte, _ value, _ []byte) (string, error) { return encodeJSON(text) }, text: true},
		LayoutYAML:       {scan: scanYAML, encode: encodeYAMLAt, text: true},
		LayoutTOML:       {scan: scanTOML, encode: encodeTOML, text: true},
		LayoutXML:        {scan: scanXML, encode: encodeXML, text: true},
		LayoutUnit:       {scan: scanUnit, encode: encodeUnit},
		LayoutCron:       {scan: scanCron, encode: encodeCron},
		LayoutShell:      {scan: scanShell, encode: encodeEnv},
		LayoutCode:       {scan: scanCode, encode: encodeCode},
		LayoutPGPass:     {scan: scanPGPass, encode: encodePGPass},
		LayoutNetrc:      {scan: scanNetrc, encode: encodeNetrc},
		LayoutPEM:        {scan: scanPEM, encode: encodePEM},
		LayoutWhole:      {scan: scanWhole, encode: func(text string, _ []byte, _ value, _ []byte) (string, error) { return text, oneLine(text) }},
	}
}

// scanAs reads content in a layout, and numbers the values of equal keys.
func scanAs(content []byte, in Layout) ([]value, []Problem, error) {
	l, found := layouts[in]
	if !found {
		return nil, nil, fmt.Errorf("no layout is called %q", in)
	}
	if l.text && !utf8.Valid(content) {
		return nil, nil, fmt.Errorf("not valid UTF-8, which %s must be", in)
	}
	return l.scan(content)
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
func Locate(path string, content []byte, hint Hint, also func(secret.Value) bool) (Located, error) {
	if err := readable(content); err != nil {
		return Located{}, err
	}
	if also == nil {
		also = func(secret.Value) bool { return false }
	}
	var last error
	for _, in := range choose(path, content, hint) {
		values, problems, err := scanAs(content, in)
		if err != nil {
			last = err
			continue
		}
		out := Located{Layout: in, Problems: problems}
		out.spans(values, also)
		if len(out.Spans) == 0 && in != LayoutWhole && isWhole(content) {
			out.whole(path, content, also)
		}
		return out, nil
	}
	if last == nil {
		last = fmt.Errorf("no layout fits")
	}
	return Located{Problems: []Problem{{lineOf(last), last.Error()}}}, nil
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
func (l *Located) spans(values []value, also func(secret.Value) bool) {
	count := map[string]int{}
	for _, v := range values {
		nth := count[v.key]
		count[v.key]++
		if v.text == "" || !utf8.ValidString(v.text) {
			continue
		}
		found := secretsIn(v.name, v.text, also, 0)
		if nth == 1 && len(found) > 0 && !repeats[l.Layout] {
			l.Problems = append(l.Problems, Problem{v.line, fmt.Sprintf("%s stands there more than once; programs use the last one", v.key)})
		}
		for _, s := range found {
			names := s.names
			if len(names) == 0 {
				names = besideValue(v, values)
			}
			l.Spans = append(l.Spans, Span{
				Locator: Locator{Layout: l.Layout, Key: v.key, Nth: nth, Part: s.part}, Start: v.start, End: v.end, Line: v.line,
				Value: secret.New(s.text), Names: names, Certain: s.certain,
			})
		}
	}
}

var secretFile = regexp.MustCompile(`(?i)(pass(wd|word|phrase)?|secret|token|pw|pwd|credentials?)([._\-]?(txt|file|key))?$`)

// whole takes a file of one line for a value, when it is a known one or the
// file is called so.
func (l *Located) whole(path string, content []byte, also func(secret.Value) bool) {
	values, _, _ := scanWhole(content)
	base := path[strings.LastIndexByte(path, '/')+1:]
	if v := secret.New(values[0].text); !also(v) && (!secretFile.MatchString(base) || strings.ContainsAny(values[0].text, " \t") || assignItem.MatchString(values[0].text)) {
		return
	}
	l.Layout, l.Problems = LayoutWhole, nil
	l.spans(values, also)
}

// repeats are layouts in which a key may stand several times and all count.
var repeats = map[Layout]bool{LayoutPGPass: true, LayoutNetrc: true, LayoutUnit: true, LayoutCron: true, LayoutShell: true, LayoutCode: true, LayoutDirectives: true, LayoutXML: true}

// NamesIn returns the account references that stand in a file under keys that
// name an account.
func NamesIn(path string, content []byte, hint Hint) []string {
	if readable(content) != nil {
		return nil
	}
	var names []string
	for _, in := range choose(path, content, hint) {
		values, _, err := scanAs(content, in)
		if err != nil {
			continue
		}
		for _, v := range values {
			if v.text != "" && nameKey.MatchString(v.name) {
				names = append(names, v.text)
			}
		}
		break
	}
	return names
}

var (
	secretKey   = regexp.MustCompile(`(?i)(pass|passwd|password|passwort|pwd|pw|secret|token|credential|passphrase|authtok|requirepass|masterauth|(api|access|account|shared|secret)[_\-.]?key)[_\-]?\d?$`)
	noSecret    = regexp.MustCompile(`(?i)(by|com)-?_?pass$`) // words that only end like one
	nameKey     = regexp.MustCompile(`(?i)(user|username|user[_\- ]?name|user[_ \-]?id|login|logon|account|bind_?dn|bind|dn|principal|uid|masteruser)$`)
	sectionLine = regexp.MustCompile(`^\[[^\]]*\]$`)
	byteOrder   = []byte("\xef\xbb\xbf")
	// reference is text that stands for a value kept elsewhere.
	reference = regexp.MustCompile(`^(\$\{[^}]*\}|\$\([^)]*\)|\$[A-Za-z_]\w*|\{\{.*\}\}|<[^<>]*>|%\([^)]*\)s|%[A-Za-z_]+%|@[A-Za-z_.]+@|\*+)$`)
)

// isSecret: the name says that its value is one.
func isSecret(name string) bool { return secretKey.MatchString(name) && !noSecret.MatchString(name) }

// besideValue returns the neighbours that name an account and share the longest
// prefix with the secret's name: BERTH_PASSWORD goes with BERTH_USER rather
// than with DB_USER. Several at the same distance are all returned. A name that
// another secret is nearer to goes with that one alone.
func besideValue(held value, values []value) []string {
	best, names := -1, []value(nil)
	for _, v := range values {
		if v.within != held.within || v.text == "" || !nameKey.MatchString(v.name) || reference.MatchString(v.text) {
			continue
		}
		switch n := commonPrefix(held.name, v.name); {
		case n > best:
			best, names = n, []value{v}
		case n == best:
			names = append(names, v)
		}
	}
	var out []string
	for _, name := range names {
		mine, taken := affinity(held, name), false
		for _, v := range values {
			if v.within == held.within && v.text != "" && isSecret(v.name) && !reference.MatchString(v.text) && affinity(v, name) > mine {
				taken = true
			}
		}
		if !taken {
			out = append(out, name.text)
		}
	}
	return out
}

var passwordKey = regexp.MustCompile(`(?i)(pass|passwd|password|passwort|pwd|pw|authtok|masterauth|credential)[_\-]?\d?$`)

// affinity says how much a secret and a name belong together: by what their
// names share, and because names go with passwords rather than with tokens.
func affinity(secret, name value) int {
	n := 2 * commonPrefix(secret.name, name.name)
	if passwordKey.MatchString(secret.name) || secret.name == "" {
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
