package keys

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// The option of an entry that ends it (sshd(8), "AUTHORIZED_KEYS FILE FORMAT").
const endOption = "expiry-time"

// EntryEnd is when an entry ends, by its options. text is a time of the host's own clock,
// which only the host can place, when at is zero; both are empty of an entry that does not end.
// An end that cannot be read shuts the entry: sshd takes it for no entry at all.
func EntryEnd(options []string) (at time.Time, text string, err error) {
	for _, o := range options {
		name, value, found := strings.Cut(o, "=")
		if !found || !strings.EqualFold(name, endOption) {
			continue
		}
		given := strings.Trim(value, `"`)
		plain := strings.TrimSuffix(given, "Z")
		form := map[int]string{8: "20060102", 12: "200601021504", 14: "20060102150405"}[len(plain)]
		when, wrong := time.Parse(form, plain)
		if form == "" || wrong != nil {
			return at, "", fmt.Errorf("%w: %s is no time: sshd does not take the entry", ErrEntries, o)
		}
		// Of several the first that has passed decides, so the earliest counts; those of the
		// host's clock are told by the host.
		switch {
		case given == plain:
			if text == "" || when.Format(time.DateTime) < text {
				text = when.Format(time.DateTime)
			}
		case at.IsZero() || when.Before(at):
			at = when
		}
	}
	if !at.IsZero() {
		text = ""
	}
	return at, text, nil
}

// EntryTime writes a moment as the option takes it, by the clock of Greenwich.
func EntryTime(at time.Time) string { return at.UTC().Format("20060102150405") + "Z" }

// Entries are the lines of a key's entries, in their order, and the ends that are written in
// each: "" where none is.
func Entries(content []byte, fingerprint string) (lines, ends []string) {
	for line := range bytes.Lines(content) {
		if holderOf(line) != fingerprint {
			continue
		}
		end := ""
		if options, _, err := splitOptions(strings.TrimLeft(string(line), " \t")); err == nil {
			for _, o := range options {
				if name, value, _ := strings.Cut(o, "="); strings.EqualFold(name, endOption) {
					end = strings.Trim(value, `"`)
				}
			}
		}
		lines, ends = append(lines, string(line)), append(ends, end)
	}
	return lines, ends
}

// Plain reports whether the options of an entry say nothing but restrictions: a command or an
// environment may hold a secret.
func Plain(line string) bool {
	options, _, err := splitOptions(strings.TrimLeft(line, " \t"))
	if err != nil {
		return false
	}
	for _, o := range options {
		switch name, _, _ := strings.Cut(strings.ToLower(o), "="); name {
		case "command", "environment":
			return false
		}
	}
	return true
}

// holderOf is the fingerprint of the key whose holder a line lets in; "" of any other line.
func holderOf(line []byte) string {
	trimmed := bytes.TrimSpace(line)
	if len(trimmed) == 0 || trimmed[0] == '#' {
		return ""
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey(trimmed)
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(public)
}

// Rewrite makes every entry of a key another line, in its place; "" removes it. Every other
// byte stays as it is.
func Rewrite(content []byte, fingerprint string, become func(nth int, line string) (string, error)) ([]byte, error) {
	out := make([]byte, 0, len(content)+64)
	nth := 0
	for line := range bytes.Lines(content) {
		if holderOf(line) != fingerprint {
			out = append(out, line...)
			continue
		}
		next, err := become(nth, string(line))
		if err != nil {
			return nil, err
		}
		out = append(out, next...)
		nth++
	}
	if nth == 0 {
		return nil, fmt.Errorf("%w: there is no entry of the key %s", ErrEntries, fingerprint)
	}
	return out, nil
}

// WithEnd is the line of an entry with another end; "" takes the end away. Its other options
// stay as they are written.
func WithEnd(line, end string) (string, error) {
	body := strings.TrimLeft(line, " \t")
	indent := line[:len(line)-len(body)]
	options, rest, err := splitOptions(body)
	if err != nil {
		return "", err
	}
	kept := options[:0:0]
	for _, o := range options {
		if name, _, _ := strings.Cut(o, "="); !strings.EqualFold(name, endOption) {
			kept = append(kept, o)
		}
	}
	if end != "" {
		kept = append(kept, endOption+`="`+end+`"`)
	}
	if len(kept) > 0 {
		rest = strings.Join(kept, ",") + " " + rest
	}
	return indent + rest, nil
}

// splitOptions takes the options of an entry apart: they end at the first blank outside
// quotes, and a quote in a quoted value stands behind a backslash. An entry that begins with
// the type of its key has none.
func splitOptions(body string) (options []string, rest string, err error) {
	first, _, _ := strings.Cut(body, " ")
	if _, _, found := strings.Cut(first, "="); !found && knownType(first) {
		return nil, body, nil
	}
	quoted, from := false, 0
	for i := 0; i < len(body); i++ {
		switch c := body[i]; {
		case quoted && c == '\\' && i+1 < len(body) && body[i+1] == '"':
			i++
		case c == '"':
			quoted = !quoted
		case !quoted && c == ',':
			options, from = append(options, body[from:i]), i+1
		case !quoted && (c == ' ' || c == '\t'):
			return append(options, body[from:i]), strings.TrimLeft(body[i:], " \t"), nil
		}
	}
	return nil, "", fmt.Errorf("%w: the options of an entry have no end", ErrEntries)
}

// knownType: the word is a type of keys as entries have them.
func knownType(word string) bool {
	return strings.HasPrefix(word, "ssh-") || strings.HasPrefix(word, "ecdsa-") || strings.HasPrefix(word, "sk-")
}
