package layout

import (
	"bytes"
	"path"
	"regexp"
	"strings"
)

// byExtension are names that settle the layout.
var byExtension = map[string]Layout{
	".json": JSON, ".jsonc": JSON, ".json5": JSON, ".yaml": YAML, ".yml": YAML, ".toml": TOML,
	".xml": XML, ".config": XML, ".properties": Properties, ".env": Env,
	".sh": Shell, ".bash": Shell, ".php": Code, ".inc": Code, ".py": Code, ".rb": Code, ".pl": Code, ".js": Code,
	".service": Unit, ".timer": Unit, ".socket": Unit, ".mount": Unit,
	".cnf": Conf, ".ini": Conf,
}

var byName = map[string]Layout{
	".pgpass": PGPass, "pgpass.conf": PGPass, "pgpass": PGPass, ".netrc": Netrc, "_netrc": Netrc, "netrc": Netrc, ".authinfo": Netrc,
	"crontab": Cron, ".bashrc": Shell, ".profile": Shell, ".bash_profile": Shell, ".zshrc": Shell, "profile": Shell,
	".my.cnf": Conf, ".odbc.ini": Conf, "redis.conf": Directives, "users.acl": Directives, "sasl_passwd": Directives,
}

var envName = regexp.MustCompile(`(?i)^(\.env(\..+)?|env)$`)

// Choose lists the layouts to try, in order.
func Choose(name string, content []byte, hint Hint) []Layout {
	if hint == HintEnv {
		return []Layout{Env}
	}
	base := strings.ToLower(path.Base(name))
	// A marked copy has the layout of what it was copied from.
	for _, suffix := range []string{".example", ".sample", ".dist", ".template", ".bak", ".old", ".orig", ".save", "~"} {
		base = strings.TrimSuffix(base, suffix)
	}
	begins := beginsJSON(content)
	if hint == HintCredential {
		if begins != 0 {
			return []Layout{JSON, Whole}
		}
		if IsWhole(content) {
			return []Layout{Whole}
		}
	}
	dir := path.Dir(name)
	switch {
	case strings.HasSuffix(dir, "/cron.d") || strings.Contains(dir, "/spool/cron"):
		return []Layout{Cron}
	case byName[base] != "":
		return []Layout{byName[base]}
	case envName.MatchString(base):
		return []Layout{Env}
	case strings.Contains(dir, "/systemd/") && path.Ext(base) == ".conf":
		return []Layout{Unit}
	}
	switch in := byExtension[path.Ext(base)]; in {
	case "":
	case XML:
		if first := firstByte(content); first != '<' {
			break
		}
		return []Layout{in}
	case JSON, YAML, TOML:
		return []Layout{in}
	default:
		return []Layout{in}
	}
	return byContent(content, begins)
}

var (
	codeBegins  = regexp.MustCompile(`^(<\?php|#!.*\b(python|php|ruby|perl|node))`)
	shellBegins = regexp.MustCompile(`^#!.*\b(sh|bash|dash|zsh|ksh)\b`)
	netrcBegins = regexp.MustCompile(`^(machine[ \t]+\S+|default[ \t]+login)`)
	pgpassLine  = regexp.MustCompile(`^([\w.\-*\[\]/]|\\:)+:(\d+|\*):[^:]+:[^:]+:.+$`)
	unitBegins  = regexp.MustCompile(`^\[(Unit|Service|Timer|Socket|Mount|Container)\]\s*$`)
)

func byContent(content []byte, begins byte) []Layout {
	first := firstLine(content)
	switch {
	case codeBegins.MatchString(first):
		return []Layout{Code}
	case shellBegins.MatchString(first):
		return []Layout{Shell}
	case unitBegins.MatchString(first):
		return []Layout{Unit}
	case strings.HasPrefix(first, "<"):
		return []Layout{XML}
	case begins == '{':
		return []Layout{JSON}
	case netrcBegins.MatchString(first):
		return []Layout{Netrc}
	case looksUserList(content):
		return []Layout{UserList}
	case pgpassLine.MatchString(first) && !strings.Contains(first, "="):
		return []Layout{PGPass}
	}
	var out []Layout
	if begins == '[' { // or a file of [sections]
		out = append(out, JSON)
	}
	if looksYAML(content) {
		out = append(out, YAML)
	}
	switch {
	case looksDirectives(content):
		return append(out, Directives)
	case looksConf(content):
		return append(out, Conf)
	}
	return append(out, Env)
}

func firstByte(content []byte) byte {
	content = bytes.TrimLeft(bytes.TrimPrefix(content, byteOrder), " \t\r\n")
	if len(content) == 0 {
		return 0
	}
	return content[0]
}

// firstLine is the first that is neither blank nor a comment; "#!" is none.
func firstLine(content []byte) string {
	for line := range strings.Lines(string(bytes.TrimPrefix(content, byteOrder))) {
		line = strings.TrimRight(line, "\r\n")
		trimmed := strings.TrimSpace(line)
		if trimmed == "" || strings.HasPrefix(trimmed, ";") || strings.HasPrefix(trimmed, "#") && !strings.HasPrefix(trimmed, "#!") {
			continue
		}
		return line
	}
	return ""
}

// looksConf: a section line, or spaces around an equals sign.
func looksConf(content []byte) bool {
	for line := range strings.Lines(string(content)) {
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' || line[0] == ';' {
			continue
		}
		if sectionLine.MatchString(line) {
			return true
		}
		if before, after, found := strings.Cut(line, "="); found {
			if strings.HasSuffix(before, " ") || strings.HasSuffix(before, "\t") || strings.HasPrefix(after, " ") {
				return true
			}
		}
	}
	return false
}

var directiveLine = regexp.MustCompile(`^[\w\[\].:\-]+[ \t]+[^ \t=:]`)

// looksDirectives: most lines are a keyword, blank and text, and nothing is
// assigned.
func looksDirectives(content []byte) bool {
	is, other := 0, 0
	for line := range strings.Lines(string(content)) {
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' || line[0] == ';' {
			continue
		}
		key, _, assigned := strings.Cut(line, "=")
		switch {
		case directiveLine.MatchString(line) && !strings.HasPrefix(line, "export ") && !(assigned && !strings.ContainsAny(strings.TrimSpace(key), " \t")):
			is++
		default:
			other++
		}
	}
	return is > other
}

var wholeAsEnv = regexp.MustCompile(`^(export[ \t]+)?[A-Z][A-Z0-9_]*=`)

// IsWhole: the content is one line and nothing else.
func IsWhole(content []byte) bool {
	text := bytes.TrimRight(bytes.TrimPrefix(content, byteOrder), "\r\n")
	return len(text) > 0 && !bytes.ContainsAny(text, "\r\n") && !wholeAsEnv.Match(text)
}

// ScanWhole reads it as one value.
func ScanWhole(content []byte) ([]Value, []Problem, error) {
	start := 0
	if bytes.HasPrefix(content, byteOrder) {
		start = len(byteOrder)
	}
	end := max(start, len(bytes.TrimRight(content, "\r\n")))
	return []Value{{Name: "secret", Start: start, End: end, Line: 1, Text: string(content[start:end])}}, nil, nil
}
