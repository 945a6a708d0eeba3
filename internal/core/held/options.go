package held

import (
	"path"
	"regexp"
	"strings"
)

// word is one word of a command line with where it stands.
type word struct {
	start, end int // of the raw text
	raw, text  string
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

// optionValues finds what the words of a command hold: options with values,
// assignments before the command, URLs. key is put before their names.
func optionValues(words []word, prefix, within string, line int) []value {
	var out []value
	command := ""
	add := func(w word, skip int, key, name string) {
		out = append(out, value{key: prefix + key, name: name, within: within, start: w.start + skip, end: w.end, line: line, text: w.text[skip:]})
	}
	for i := 0; i < len(words); i++ {
		w := words[i]
		short := shortOptions[command]
		next := i+1 < len(words)
		switch m := optionWord.FindStringSubmatch(w.text); {
		case m != nil && rawKept(w, len(m[0])):
			add(w, len(m[0]), command+" "+m[1], strings.TrimLeft(m[1], "-"))
		case m != nil: // quoted as a whole
			add(w, 0, command+" "+m[1], "")
		case command == "" && assignItem.MatchString(w.text):
			n := strings.IndexByte(w.text, '=')
			if rawKept(w, n+1) {
				add(w, n+1, w.text[:n], w.text[:n])
			} else {
				add(w, 0, w.text[:n], "")
			}
		case command == "":
			if base := path.Base(strings.TrimLeft(w.text, "-@:+!")); base != "env" && base != "sudo" && base != "nice" {
				command = base
			}
		case short[w.text] == "next" && next, short[w.text] == "joined" && next && command == "sshpass":
			i++
			add(words[i], 0, command+" "+w.text, "password")
		case short[w.text] == "name" && next:
			i++
			add(words[i], 0, command+" "+w.text, "user")
		case short[w.text] == "pair" && next:
			i++
			add(words[i], 0, command+" "+w.text, "credentials")
		case len(w.text) > 2 && short[w.text[:min(2, len(w.text))]] == "joined" && rawKept(w, 2):
			add(w, 2, command+" "+w.text[:2], "password")
		case len(w.text) > 2 && short[w.text[:2]] == "name" && rawKept(w, 2):
			add(w, 2, command+" "+w.text[:2], "user")
		case len(w.text) > 2 && w.text[0] == '-' && isSecret(w.text) && next && !strings.HasPrefix(words[i+1].text, "-"):
			i++
			add(words[i], 0, command+" "+w.text, strings.TrimLeft(w.text, "-"))
		case len(w.text) > 2 && w.text[0] == '-' && nameKey.MatchString(w.text) && next:
			i++
			add(words[i], 0, command+" "+w.text, strings.TrimLeft(w.text, "-"))
		case scheme.MatchString(w.text):
			add(w, 0, command+" address", "")
		default:
			if _, ok := decodeBasicHeader(w.text); ok {
				add(w, 0, command+" header", "")
			}
		}
	}
	return out
}

// rawKept: the first n bytes of a word stand as they are, so that what follows
// them begins as far into the raw text.
func rawKept(w word, n int) bool { return strings.HasPrefix(w.raw, w.text[:n]) }

func decodeBasicHeader(text string) (string, bool) {
	found := findBasic("", text)
	if len(found) == 0 {
		return "", false
	}
	return found[0].text, true
}
