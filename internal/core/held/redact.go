package held

import (
	"regexp"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// Redactor takes secrets out of texts that systems emit: command lines,
// descriptions, error messages. It knows them by where they stand (an option
// that takes a password, a URL, a header, an assignment) and, with Known, by
// what they are. What follows the text is the same for the same text, so that
// a redacted one can still be compared.
type Redactor struct {
	// Known tells whether a text is a value in custody; nil for never. It is
	// asked of single words.
	Known func(string) bool
}

var (
	redactAssign = regexp.MustCompile(`(?i)([A-Za-z0-9_.\-]*(?:pass|passwd|password|passwort|passphrase|pwd|secret|token|credential|api[_-]?key|access[_-]?key|authtok|requirepass|masterauth|bindpw))(["']?\s*(?::=|=>|[:=])\s*)("[^"]*"|'[^']*'|[^\s"',;&]+)`)
	redactURL    = regexp.MustCompile(`([A-Za-z][A-Za-z0-9+.\-]*://[^\s/@:"']*:)([^\s@"']+)(@)`)
	redactBearer = regexp.MustCompile(`(?i)\b(bearer|basic|negotiate)(\s+)([A-Za-z0-9._~+/=\-]{8,})`)
	redactPEM    = regexp.MustCompile(`(?s)-----BEGIN [A-Z ]*PRIVATE KEY-----.*?(-----END [A-Z ]*PRIVATE KEY-----|$)`)
	redactQuoted = regexp.MustCompile(`"[^"]*\s--?[A-Za-z][^"]*"|'[^']*\s--?[A-Za-z][^']*'`)
	nameService  = map[string]bool{"files": true, "compat": true, "ldap": true, "systemd": true, "sss": true, "db": true, "nis": true, "winbind": true}
	redactWords  = regexp.MustCompile(`[^\s"'=:,;@/|()\[\]{}<>&?]+`)
	commandEnds  = regexp.MustCompile(`(?:[;|&\n]+|\bexec\b|\s--\s)`)
)

// Text returns the text without its secrets.
func (r *Redactor) Text(text string) string {
	if text == "" {
		return text
	}
	return r.known(r.placed(text, seen(text)))
}

// suspects are the ways in which a text may hold a secret. Most texts have none
// of the characters that it takes, and there are millions of them: telling so is
// much cheaper than looking.
type suspects struct{ pem, quoted, command, address, header, assignment bool }

func seen(text string) suspects {
	s := suspects{
		pem: strings.Contains(text, "-----BEGIN"), quoted: strings.ContainsAny(text, `"'`) && strings.Contains(text, "-"),
		command: strings.ContainsAny(text, "-=/"), address: strings.Contains(text, "://"), assignment: strings.ContainsAny(text, ":="),
	}
	lower := strings.ToLower(text)
	hasAny := func(words ...string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(lower, w) })
	}
	// Letters beyond ASCII may fold to these words: there it is looked.
	beyond := !isASCII(text)
	s.header = beyond || hasAny("basic", "bearer", "negotiate")
	s.command = s.command || s.header
	// Each name in redactAssign has one of these.
	s.assignment = s.assignment && (beyond || hasAny("pass", "pw", "secret", "token", "credential", "key", "auth"))
	return s
}

func isASCII(text string) bool {
	for i := range len(text) {
		if text[i] >= 0x80 {
			return false
		}
	}
	return true
}

// placed replaces what stands where a secret stands.
func (r *Redactor) placed(text string, may suspects) string {
	if may.pem {
		text = redactPEM.ReplaceAllString(text, secret.Placeholder)
	}
	if may.quoted {
		text = redactQuoted.ReplaceAllStringFunc(text, func(all string) string { // a command inside of another text
			return all[:1] + r.commands(all[1:len(all)-1]) + all[len(all)-1:]
		})
	}
	if may.command {
		text = r.commands(text)
	}
	if may.address {
		text = redactURL.ReplaceAllString(text, "${1}"+secret.Placeholder+"${3}")
	}
	if may.header {
		text = redactBearer.ReplaceAllString(text, "${1}${2}"+secret.Placeholder)
	}
	if !may.assignment {
		return text
	}
	return redactAssign.ReplaceAllStringFunc(text, func(all string) string {
		m := redactAssign.FindStringSubmatch(all)
		value := strings.Trim(m[3], `"'`)
		if m[1] == "NOPASSWD" && strings.TrimSpace(m[2]) == ":" { // a tag of sudoers(5): what follows is a command
			return all
		}
		if !layout.IsSecret(strings.TrimLeft(m[1], "-")) || value == "" || layout.Reference.MatchString(value) || isWord(value) || nameService[value] || strings.Contains(value, secret.Placeholder) {
			return all
		}
		return m[1] + m[2] + secret.Placeholder
	})
}

// known replaces words that are values in custody.
func (r *Redactor) known(text string) string {
	if r.Known == nil {
		return text
	}
	for field := range strings.FieldsSeq(text) {
		if bare := strings.Trim(field, `"'`); len(bare) >= windowSize && r.Known(bare) {
			text = strings.ReplaceAll(text, bare, secret.Placeholder)
		}
	}
	return redactWords.ReplaceAllStringFunc(text, func(word string) string {
		if len(word) >= windowSize && r.Known(word) {
			return secret.Placeholder
		}
		return word
	})
}

// commands takes a text for command lines, one after the other, and replaces
// what their options hold.
func (r *Redactor) commands(text string) string {
	type cut struct{ start, end int }
	var cuts []cut
	from := 0
	for _, end := range append(commandEnds.FindAllStringIndex(text, -1), []int{len(text), len(text)}) {
		for _, v := range layout.OptionValues(splitWords(text[from:end[0]], from), "", "", 0) {
			found := secretsIn(v.Name, v.Text, func(secret.Value) bool { return false }, 0)
			for _, f := range found {
				raw := text[v.Start:v.End]
				if i := strings.Index(raw, f.text); i >= 0 {
					cuts = append(cuts, cut{v.Start + i, v.Start + i + len(f.text)})
				} else {
					cuts = append(cuts, cut{v.Start, v.End}) // it is encoded
				}
			}
		}
		from = end[1]
	}
	var out strings.Builder
	last := 0
	for _, c := range cuts {
		if c.start < last {
			continue
		}
		out.WriteString(text[last:c.start] + secret.Placeholder)
		last = c.end
	}
	out.WriteString(text[last:])
	return out.String()
}

// splitWords splits at blanks, as a shell or a service manager does with plain
// quotes, and keeps where the words stand.
func splitWords(text string, offset int) []layout.Word {
	var out []layout.Word
	for i := 0; i < len(text); {
		for i < len(text) && (text[i] == ' ' || text[i] == '\t') {
			i++
		}
		start := i
		var plain strings.Builder
		quote := byte(0)
		for i < len(text) && (quote != 0 || text[i] != ' ' && text[i] != '\t') {
			switch c := text[i]; {
			case quote == 0 && (c == '"' || c == '\''):
				quote = c
			case quote != 0 && c == quote:
				quote = 0
			default:
				plain.WriteByte(c)
			}
			i++
		}
		if i > start {
			w := layout.Word{Start: offset + start, End: offset + i, Raw: text[start:i], Text: plain.String()}
			// A path with blanks before the program's name, as Windows writes it.
			w.Text = strings.ReplaceAll(w.Text, "\\", "/")
			if len(w.Text) != len(plain.String()) || !strings.Contains(w.Raw, "\\") {
				w.Text = plain.String()
			}
			out = append(out, w)
		}
	}
	return out
}
