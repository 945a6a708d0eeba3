package layout

import (
	"path"
	"regexp"
	"strings"
)

// Word is one word of a command line with where it stands.
type Word struct {
	Start, End int // of the raw text
	Raw, Text  string
}

var (
	optionWord   = regexp.MustCompile(`^(--?[A-Za-z][\w\-]*)=`)
	shortOptions = map[string]map[string]string{ // by command: option to what its value is
		"mysql": {"-p": "joined", "-u": "name"}, "mysqldump": {"-p": "joined", "-u": "name"}, "mysqladmin": {"-p": "joined", "-u": "name"},
		"mariadb": {"-p": "joined", "-u": "name"}, "mariadb-dump": {"-p": "joined", "-u": "name"}, "mariadb-admin": {"-p": "joined", "-u": "name"},
		"redis-cli": {"-a": "next"}, "ldapsearch": {"-w": "next", "-D": "name"}, "ldapmodify": {"-w": "next", "-D": "name"}, "ldappasswd": {"-w": "next", "-D": "name"},
		"curl": {"-u": "pair", "--user": "pair"}, "psql": {"-U": "name"}, "pg_dump": {"-U": "name"}, "sshpass": {"-p": "joined"}, "smbclient": {"-U": "name"},
	}
)

// OptionValues finds what the words of a command hold: options with values,
// assignments before the command, URLs. key is put before their names.
func OptionValues(words []Word, prefix, within string, line int) []Value {
	var out []Value
	command := ""
	add := func(w Word, skip int, key, name string) {
		out = append(out, Value{Key: prefix + key, Name: name, Within: within, Start: w.Start + skip, End: w.End, Line: line, Text: w.Text[skip:]})
	}
	for i := 0; i < len(words); i++ {
		w := words[i]
		short := shortOptions[command]
		next := i+1 < len(words)
		switch m := optionWord.FindStringSubmatch(w.Text); {
		case m != nil && rawKept(w, len(m[0])):
			add(w, len(m[0]), command+" "+m[1], strings.TrimLeft(m[1], "-"))
		case m != nil: // quoted as a whole
			add(w, 0, command+" "+m[1], "")
		case command == "" && AssignItem.MatchString(w.Text):
			n := strings.IndexByte(w.Text, '=')
			if rawKept(w, n+1) {
				add(w, n+1, w.Text[:n], w.Text[:n])
			} else {
				add(w, 0, w.Text[:n], "")
			}
		case command == "":
			if base := path.Base(strings.TrimLeft(w.Text, "-@:+!")); base != "env" && base != "sudo" && base != "nice" {
				command = base
			}
		case short[w.Text] == "next" && next, short[w.Text] == "joined" && next && command == "sshpass":
			i++
			add(words[i], 0, command+" "+w.Text, "password")
		case short[w.Text] == "name" && next:
			i++
			add(words[i], 0, command+" "+w.Text, "user")
		case short[w.Text] == "pair" && next:
			i++
			add(words[i], 0, command+" "+w.Text, "credentials")
		case len(w.Text) > 2 && short[w.Text[:min(2, len(w.Text))]] == "joined" && rawKept(w, 2):
			add(w, 2, command+" "+w.Text[:2], "password")
		case len(w.Text) > 2 && short[w.Text[:2]] == "name" && rawKept(w, 2):
			add(w, 2, command+" "+w.Text[:2], "user")
		case len(w.Text) > 2 && w.Text[0] == '-' && IsSecret(w.Text) && next && !strings.HasPrefix(words[i+1].Text, "-"):
			i++
			add(words[i], 0, command+" "+w.Text, strings.TrimLeft(w.Text, "-"))
		case len(w.Text) > 2 && w.Text[0] == '-' && NameKey.MatchString(w.Text) && next:
			i++
			add(words[i], 0, command+" "+w.Text, strings.TrimLeft(w.Text, "-"))
		case Scheme.MatchString(w.Text):
			add(w, 0, command+" address", "")
		default:
			if isBasicHeader(w.Text) {
				add(w, 0, command+" header", "")
			}
		}
	}
	return out
}

// rawKept: the first n bytes of a word stand as they are, so that what follows
// them begins as far into the raw text.
func rawKept(w Word, n int) bool { return strings.HasPrefix(w.Raw, w.Text[:n]) }

func isBasicHeader(text string) bool {
	m := BasicHeader.FindStringSubmatch(text)
	if m == nil {
		return false
	}
	plain, ok := DecodeBase64(m[1])
	return ok && strings.Contains(plain, ":")
}

// AssignItem begins an assignment or an option with its value.
var AssignItem = regexp.MustCompile(`^(--?[A-Za-z][\w\-]*|[A-Za-z_][\w.]*)=`)

// BasicHeader is the value of an HTTP Authorization header (RFC 7617).
var BasicHeader = regexp.MustCompile(`(?i)^(?:authorization:\s*)?basic\s+([A-Za-z0-9+/]+={0,2})$`)

// Scheme also takes the prefixes of JDBC: jdbc:postgresql://, jdbc:oracle:thin:@//.
var Scheme = regexp.MustCompile(`^(?:[A-Za-z]+:)*[A-Za-z][A-Za-z0-9+.\-]*:(?:[A-Za-z]+:@)?//`)
