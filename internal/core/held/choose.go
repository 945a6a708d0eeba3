package held

import (
	"bytes"
	"path"
	"regexp"
	"strings"
)

// byExtension are names that settle the layout.
var byExtension = map[string]Layout{
	".json": LayoutJSON, ".jsonc": LayoutJSON, ".json5": LayoutJSON, ".yaml": LayoutYAML, ".yml": LayoutYAML, ".toml": LayoutTOML,
	".xml": LayoutXML, ".config": LayoutXML, ".properties": LayoutProperties, ".env": LayoutEnv,
	".sh": LayoutShell, ".bash": LayoutShell, ".php": LayoutCode, ".inc": LayoutCode, ".py": LayoutCode, ".rb": LayoutCode, ".pl": LayoutCode, ".js": LayoutCode,
	".service": LayoutUnit, ".timer": LayoutUnit, ".socket": LayoutUnit, ".mount": LayoutUnit,
	".cnf": LayoutConf, ".ini": LayoutConf,
}

var byName = map[string]Layout{
	".pgpass": LayoutPGPass, "pgpass.conf": LayoutPGPass, "pgpass": LayoutPGPass, ".netrc": LayoutNetrc, "_netrc": LayoutNetrc, "netrc": LayoutNetrc, ".authinfo": LayoutNetrc,
	"crontab": LayoutCron, ".bashrc": LayoutShell, ".profile": LayoutShell, ".bash_profile": LayoutShell, ".zshrc": LayoutShell, "profile": LayoutShell,
	".my.cnf": LayoutConf, ".odbc.ini": LayoutConf, "redis.conf": LayoutDirectives, "users.acl": LayoutDirectives, "sasl_passwd": LayoutDirectives,
}

var envName = regexp.MustCompile(`(?i)^(\.env(\..+)?|env)$`)

// choose lists the layouts to try, in order.
func choose(name string, content []byte, hint Hint) []Layout {
	if hint == HintEnv {
		return []Layout{LayoutEnv}
	}
	base := strings.ToLower(path.Base(name))
	// A marked copy has the layout of what it was copied from.
	for _, suffix := range []string{".example", ".sample", ".dist", ".template", ".bak", ".old", ".orig", ".save", "~"} {
		base = strings.TrimSuffix(base, suffix)
	}
	begins := beginsJSON(content)
	if hint == HintCredential {
		if begins != 0 {
			return []Layout{LayoutJSON, LayoutWhole}
		}
		if isWhole(content) {
			return []Layout{LayoutWhole}
		}
	}
	dir := path.Dir(name)
	switch {
	case strings.HasSuffix(dir, "/cron.d") || strings.Contains(dir, "/spool/cron"):
		return []Layout{LayoutCron}
	case byName[base] != "":
		return []Layout{byName[base]}
	case envName.MatchString(base):
		return []Layout{LayoutEnv}
	case strings.Contains(dir, "/systemd/") && path.Ext(base) == ".conf":
		return []Layout{LayoutUnit}
	}
	switch in := byExtension[path.Ext(base)]; in {
	case "":
	case LayoutXML:
		if first := firstByte(content); first != '<' {
			break
		}
		return []Layout{in}
	case LayoutJSON, LayoutYAML, LayoutTOML:
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
		return []Layout{LayoutCode}
	case shellBegins.MatchString(first):
		return []Layout{LayoutShell}
	case unitBegins.MatchString(first):
		return []Layout{LayoutUnit}
	case strings.HasPrefix(first, "<"):
		return []Layout{LayoutXML}
	case begins == '{':
		return []Layout{LayoutJSON}
	case netrcBegins.MatchString(first):
		return []Layout{LayoutNetrc}
	case pgpassLine.MatchString(first) && !strings.Contains(first, "="):
		return []Layout{LayoutPGPass}
	}
	var out []Layout
	if begins == '[' { // or a file of [sections]
		out = append(out, LayoutJSON)
	}
	if looksYAML(content) {
		out = append(out, LayoutYAML)
	}
	switch {
	case looksDirectives(content):
		return append(out, LayoutDirectives)
	case looksConf(content):
		return append(out, LayoutConf)
	}
	return append(out, LayoutEnv)
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

func isWhole(content []byte) bool {
	text := bytes.TrimRight(bytes.TrimPrefix(content, byteOrder), "\r\n")
	return len(text) > 0 && !bytes.ContainsAny(text, "\r\n") && !wholeAsEnv.Match(text)
}

func scanWhole(content []byte) ([]value, []Problem, error) {
	start := 0
	if bytes.HasPrefix(content, byteOrder) {
		start = len(byteOrder)
	}
	end := max(start, len(bytes.TrimRight(content, "\r\n")))
	return []value{{name: "secret", start: start, end: end, line: 1, text: string(content[start:end])}}, nil, nil
}
