// Package layout reads and writes the layouts of files in which secrets stand:
// environment file, key = value lines, directives, properties, JSON, YAML, TOML, XML,
// system unit, crontab, shell script, constants of a program, password file of a
// client, private key, or one value and nothing else. A reader gives all values of a
// file with their places; a writer says how a value must be written in place of
// another, or that the layout cannot carry it. Which of them are secrets is a matter
// of package held.
package layout

import (
	"fmt"
	"regexp"
	"unicode/utf8"
)

// Layout of a file.
type Layout string

// layouts that are read.
const (
	Env        Layout = "env"        // KEY=value with shell-like quotes, as systemd reads EnvironmentFile=
	Conf       Layout = "conf"       // key = value, maybe in [sections]
	Directives Layout = "directives" // keyword, blank, value
	Properties Layout = "properties" // java.util.Properties
	JSON       Layout = "json"       // RFC 8259; the key is a JSON pointer (RFC 6901)
	YAML       Layout = "yaml"       // a YAML stream; the key is a pointer of the same form
	TOML       Layout = "toml"       // TOML 1.0; the key is a pointer of the same form
	XML        Layout = "xml"        // XML 1.0; the key is a path of elements
	Unit       Layout = "unit"       // systemd.syntax(7)
	Cron       Layout = "cron"       // crontab(5)
	Shell      Layout = "shell"      // a shell script
	Code       Layout = "code"       // constants of a program
	PGPass     Layout = "pgpass"     // host:port:database:user:password
	Netrc      Layout = "netrc"      // machine, login, password
	UserList   Layout = "user-list"  // "name" "password" of a connection pooler
	Whole      Layout = "whole"      // one value and nothing else
	PEM        Layout = "pem"        // private keys (RFC 7468); the locator's number says which
	Chain      Layout = "chain"      // certificates, each with those that signed it; the locator's number says which
	KeyFile    Layout = "key-file"   // JSON with a private key in PEM and the number of it
	KeyTab     Layout = "key-tab"    // keys made of a value; the key is a principal
)

// Problem is a line that could not be read.
type Problem struct {
	Line int
	What string
}

// Hint says how the file was named, which helps to tell the layout.
type Hint string

// Hints.
const (
	HintNone       Hint = ""
	HintEnv        Hint = "env"        // EnvironmentFile=
	HintCredential Hint = "credential" // LoadCredential=, --password-file and the like
)

// Value is one value of a file with its place. Every layout's reader gives
// these.
type Value struct {
	Key        string // where it stands, in the layout's terms
	Name       string // what it is called; "" in lists
	Within     string // what its neighbours share
	Start, End int    // of the raw text, quotes included
	Line       int
	Text       string // decoded
}

// layout is how one is read and written.
type layout struct {
	scan   func(content []byte) ([]Value, []Problem, error)
	encode func(text string, old []byte, at Value, content []byte) (string, error)
	text   bool // the content must be valid UTF-8
}

var layouts map[Layout]layout

func init() { // the readers refer to layouts by nesting
	layouts = map[Layout]layout{
		Env:        {scan: scanEnv, encode: encodeEnv},
		Conf:       {scan: scanConf, encode: encodeConf},
		Directives: {scan: scanDirectives, encode: encodeDirective},
		Properties: {scan: scanProperties, encode: encodeProperty},
		JSON:       {scan: scanJSON, encode: func(text string, _ []byte, _ Value, _ []byte) (string, error) { return encodeJSON(text) }, text: true},
		YAML:       {scan: scanYAML, encode: encodeYAMLAt, text: true},
		TOML:       {scan: scanTOML, encode: encodeTOML, text: true},
		XML:        {scan: scanXML, encode: encodeXML, text: true},
		Unit:       {scan: scanUnit, encode: encodeUnit},
		Cron:       {scan: scanCron, encode: encodeCron},
		Shell:      {scan: scanShell, encode: encodeEnv},
		Code:       {scan: scanCode, encode: encodeCode},
		PGPass:     {scan: scanPGPass, encode: encodePGPass},
		Netrc:      {scan: scanNetrc, encode: encodeNetrc},
		UserList:   {scan: scanUserList, encode: encodeUserList},
		PEM:        {scan: scanPEM, encode: encodePEM},
		KeyFile:    {scan: scanJSON, encode: encodeKeyFile, text: true},
		Whole:      {scan: ScanWhole, encode: func(text string, _ []byte, _ Value, _ []byte) (string, error) { return text, oneLine(text) }},
	}
}

// Scan reads content in a layout.
func Scan(content []byte, in Layout) ([]Value, []Problem, error) {
	l, found := layouts[in]
	if !found {
		return nil, nil, fmt.Errorf("no layout is called %q", in)
	}
	if l.text && !utf8.Valid(content) {
		return nil, nil, fmt.Errorf("not valid UTF-8, which %s must be", in)
	}
	return l.scan(content)
}

var (
	secretKey   = regexp.MustCompile(`(?i)(pass|passwd|password|passwort|pwd|pw|secret|token|credential|passphrase|authtok|requirepass|masterauth|(api|access|account|shared|secret)[_\-.]?key)[_\-]?\d?$`)
	noSecret    = regexp.MustCompile(`(?i)(by|com)-?_?pass$`) // words that only end like one
	NameKey     = regexp.MustCompile(`(?i)(user|username|user[_\- ]?name|user[_ \-]?id|login|logon|account|bind_?dn|bind|dn|principal|uid|masteruser)$`)
	sectionLine = regexp.MustCompile(`^\[[^\]]*\]$`)
	byteOrder   = []byte("\xef\xbb\xbf")
	// Reference is text that stands for a value kept elsewhere.
	Reference = regexp.MustCompile(`^(\$\{[^}]*\}|\$\([^)]*\)|\$[A-Za-z_]\w*|\{\{.*\}\}|<[^<>]*>|%\([^)]*\)s|%[A-Za-z_]+%|@[A-Za-z_.]+@|\*+)$`)
)

// IsSecret: the name says that its value is one.
func IsSecret(name string) bool { return secretKey.MatchString(name) && !noSecret.MatchString(name) }

// Encode writes text as it must stand in place of a value of content.
func Encode(in Layout, text string, at Value, content []byte) (string, error) {
	return layouts[in].encode(text, content[at.Start:at.End], at, content)
}
