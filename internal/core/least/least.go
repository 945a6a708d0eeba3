// Package least reads what was sent to a system and says which rights that takes: the smallest
// grant, as things of a charter. It is a reading, not a proof: what it could not read it says,
// and whether less would do is tried with a scratch account (package proving).
package least

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/mattn/go-shellwords"

	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/descriptor"
)

// Operation is one thing that was sent, as a trace has it.
type Operation struct {
	Protocol string // ssh, ldap, sql, redis, ws-management
	Kind     string // of the system: postgresql or mariadb decide how sql is read
	Text     string
	Database string // of a data store, where names in a statement may leave it out
}

// Read says which things of a charter operations take, in the order in which they were met,
// and what could not be read, with why.
func Read(operations []Operation) (items []charter.Item, unread []string) {
	seen := map[string]bool{}
	add := func(i charter.Item) {
		if key := i.Words(); !seen[key] {
			seen[key] = true
			items = append(items, i)
		}
	}
	doubt := func(o Operation, why string) {
		text := o.Text
		if len(text) > 120 {
			text = text[:120] + "..."
		}
		line := why + ": " + strings.Join(strings.Fields(text), " ")
		if !slices.Contains(unread, line) {
			unread = append(unread, line)
		}
	}
	for _, o := range operations {
		switch o.Protocol {
		case "ssh":
			command(o, add, doubt)
		case "redis":
			store(o, add)
		case "ldap":
			entry(o, add, doubt)
		case "sql":
			statement(o, add, doubt)
		case "ws-management":
			message(o, add, doubt)
		default:
			doubt(o, "which rights this takes is not read from what is sent over "+o.Protocol)
		}
	}
	return items, unread
}

// command reads a command line: what sudo was asked to run, and as whom.
func command(o Operation, add func(charter.Item), doubt func(Operation, string)) {
	words, err := shellwords.Parse(o.Text)
	if err != nil || len(words) == 0 {
		doubt(o, "it is no plain command line")
		return
	}
	for len(words) > 2 && (path.Base(words[0]) == "env" || path.Base(words[0]) == "nice" && words[1] == "-n") {
		words = words[2:]
	}
	if path.Base(words[0]) != "sudo" {
		return // what everyone may
	}
	item := charter.Item{}
	rest := words[1:]
	for len(rest) > 0 && strings.HasPrefix(rest[0], "-") {
		switch flag := rest[0]; {
		case flag == "--":
			rest = rest[1:]
		case flag == "-u" && len(rest) > 1:
			if rest[1] != "root" {
				item.As = rest[1]
			}
			rest = rest[2:]
			continue
		case strings.Contains(flag, "l") && !strings.HasPrefix(flag, "--"):
			return // it lists what it may
		default:
			rest = rest[1:]
			continue
		}
		break
	}
	if len(rest) == 0 {
		return
	}
	if !strings.HasPrefix(rest[0], "/") {
		doubt(o, "the command is not named by its path")
		return
	}
	for _, w := range rest {
		if w == "" || strings.ContainsAny(w, " \t\n\"'") {
			doubt(o, "an argument has blanks or quotes, which a charter does not write")
			return
		}
	}
	item.Run = strings.Join(rest, " ")
	add(item)
}

// containers are the commands of Redis that have others under them.
var containers = []string{"acl", "client", "cluster", "command", "config", "function", "latency", "memory", "module", "object", "pubsub", "script", "slowlog", "xgroup", "xinfo"}

// everybody are those that everyone who is signed in may send.
var everybody = []string{"hello", "auth", "quit", "ping", "reset"}

func store(o Operation, add func(charter.Item)) {
	words := strings.Fields(strings.ToLower(o.Text))
	if len(words) == 0 || slices.Contains(everybody, words[0]) {
		return
	}
	run := words[0]
	if slices.Contains(containers, run) && len(words) > 1 {
		run += " " + words[1]
	}
	add(charter.Item{Run: run})
}

// writes are the control rights by which attributes of directories with the Windows-domain
// schema are written, by attribute in small letters.
var writes = map[string]string{
	"unicodepwd": descriptor.VerbResetPassword, "member": descriptor.VerbWriteMembers, "serviceprincipalname": descriptor.VerbWriteNames,
	"useraccountcontrol": descriptor.VerbWriteControl, "msds-keycredentiallink": descriptor.VerbWriteKeys, "msds-allowedtoactonbehalfofotheridentity": descriptor.VerbWriteDelegation,
}

var changed = regexp.MustCompile(`(?m)^(add|delete|replace): ([A-Za-z0-9;.-]+)$`)

// entry reads a change of a directory; reading takes nothing that is granted one by one.
func entry(o Operation, add func(charter.Item), doubt func(Operation, string)) {
	if !strings.HasPrefix(o.Text, "dn: ") {
		if strings.HasPrefix(o.Text, "password of ") {
			name, _, _ := strings.Cut(strings.TrimPrefix(o.Text, "password of "), " becomes")
			add(charter.Item{Do: descriptor.VerbResetPassword, To: "account:" + firstName(strings.Trim(name, `"`))})
		}
		return
	}
	dn, _, _ := strings.Cut(strings.TrimPrefix(o.Text, "dn: "), "\n")
	acts := map[string][]string{}
	for _, m := range changed.FindAllStringSubmatch(o.Text, -1) {
		acts[strings.ToLower(m[2])] = append(acts[strings.ToLower(m[2])], m[1])
	}
	for _, attribute := range sortedKeys(acts) {
		verb := writes[attribute]
		switch {
		case attribute == "unicodepwd" && len(acts[attribute]) > 1:
			continue // whoever knows the old one may
		case attribute == "userpassword":
			verb = descriptor.VerbResetPassword
		case verb == "":
			doubt(o, "the right to write "+attribute+" is none that is told apart")
			continue
		}
		kind := "account:"
		if attribute == "member" {
			kind = "group:"
		}
		add(charter.Item{Do: verb, To: kind + firstName(dn)})
	}
}

// firstName is the value of the first part of a distinguished name (RFC 4514): rights name
// accounts and groups by it, where it is not otherwise than the name that they sign in with.
func firstName(dn string) string {
	_, value, found := strings.Cut(dn, "=")
	if !found {
		return dn
	}
	var b strings.Builder
	for i := 0; i < len(value); i++ {
		switch {
		case value[i] == '\\' && i+1 < len(value):
			i++
			b.WriteByte(value[i])
		case value[i] == ',' || value[i] == '+':
			return b.String()
		default:
			b.WriteByte(value[i])
		}
	}
	return b.String()
}

func sortedKeys(m map[string][]string) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// object writes the name of a table as rights have it.
func object(o Operation, t table) (string, error) {
	parts := t.parts
	if o.Kind == "mariadb" {
		if len(parts) == 1 {
			parts = append([]string{o.Database}, parts...)
		}
		if len(parts) != 2 || parts[0] == "" {
			return "", fmt.Errorf("the database of %s is not known", strings.Join(t.parts, "."))
		}
		return strings.Join(parts, "."), nil
	}
	if len(parts) == 1 {
		parts = append([]string{"public"}, parts...)
	}
	if len(parts) != 2 || o.Database == "" {
		return "", fmt.Errorf("the database of %s is not known", strings.Join(t.parts, "."))
	}
	return o.Database + "." + strings.Join(parts, "."), nil
}

// everyoneReads are schemas whose tables everyone may read, as far as the server lets them.
var everyoneReads = map[string][]string{"postgresql": {"pg_catalog", "information_schema"}, "mariadb": {"information_schema"}}

func statement(o Operation, add func(charter.Item), doubt func(Operation, string)) {
	s, err := parse(o.Text)
	if err != nil {
		doubt(o, err.Error())
		return
	}
	for _, u := range s {
		if u.kind != "" {
			definition(o, u, add, doubt)
			continue
		}
		if u.verb == manageRoles {
			verb := "manage roles"
			if o.Kind == "mariadb" {
				verb = "create user"
			}
			add(charter.Item{Do: verb})
			continue
		}
		first := strings.ToLower(u.on.parts[0])
		if slices.Contains(everyoneReads[o.Kind], first) || o.Kind == "postgresql" && len(u.on.parts) == 1 && strings.HasPrefix(first, "pg_") {
			if u.verb != "select" || first == "pg_authid" {
				doubt(o, "a table of the server's own")
			}
			continue
		}
		name, err := object(o, u.on)
		if err != nil {
			doubt(o, err.Error())
			continue
		}
		kind := "table:"
		if u.verb == "execute" {
			kind = "routine:"
			if o.Kind == "postgresql" {
				kind = "function:"
			}
		}
		add(charter.Item{Do: u.verb, To: kind + name})
	}
}

// definition adds what it takes to define, change or remove something.
func definition(o Operation, u use, add func(charter.Item), doubt func(Operation, string)) {
	list := byServer[o.Kind][u.verb][u.kind]
	if len(list) == 0 {
		doubt(o, "what it takes to "+u.verb+" a "+u.kind+" there is not read")
		return
	}
	for _, g := range list {
		name := ""
		switch {
		case g.kind == "":
		case u.kind == kindSchema || u.kind == kindDatabase:
			if name = u.on.parts[0]; g.around { // a schema in the database
				name = o.Database
			}
		default:
			whole, err := object(o, u.on)
			if err != nil {
				doubt(o, err.Error())
				return
			}
			if name = whole; g.around {
				name = whole[:strings.LastIndexByte(whole, '.')]
			}
		}
		item := charter.Item{Do: g.verb}
		if g.kind != "" {
			item.To = g.kind + ":" + name
		}
		add(item)
	}
}

// Charter makes one of what was read.
func Charter(name, of string, items []charter.Item) *charter.Document {
	d := &charter.Document{Name: name, Label: name, Description: "Drafted from " + of + ": what was sent, and nothing beside. 'moss charter prove' tries whether less would do."}
	for _, i := range items {
		if len(d.Must) < 200 {
			d.Must = append(d.Must, i)
		}
	}
	d.Never = []charter.Item{{Do: privilege.VerbEverything}}
	return d
}
