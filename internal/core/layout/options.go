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
		case next && shortCalls(command, w.Text) != "":
			i++
			add(words[i], 0, command+" "+w.Text, shortCalls(command, w.Text))
		case joinedTo(command, w) != "":
			add(w, 2, command+" "+w.Text[:2], joinedTo(command, w))
		case next && longCalls(w.Text, words[i+1].Text) != "":
			i++
			add(words[i], 0, command+" "+w.Text, longCalls(w.Text, words[i].Text))
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

// shortCalls is what the value of a command's short option is, when it is the next
// word; "" for nothing that matters.
func shortCalls(command, option string) string {
	switch how := shortOptions[command][option]; {
	case how == "next", how == "joined" && command == "sshpass":
		return "password"
	case how == "name":
		return "user"
	case how == "pair":
		return "credentials"
	}
	return ""
}

// joinedTo is what stands in the same word as a short option.
func joinedTo(command string, w Word) string {
	if len(w.Text) <= 2 || !rawKept(w, 2) {
		return ""
	}
	return map[string]string{"joined": "password", "name": "user"}[shortOptions[command][w.Text[:2]]]
}

// longCalls is what an option calls the next word, when it says a secret or a name.
func longCalls(option, next string) string {
	if len(option) > 2 && option[0] == '-' && (IsSecret(option) && !strings.HasPrefix(next, "-") || NameKey.MatchString(option)) {
		return strings.TrimLeft(option, "-")
	}
	return ""
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
