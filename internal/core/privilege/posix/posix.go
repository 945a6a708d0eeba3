// Package posix says who may read and write a file of a unix host: by its mode or its access
// control list, and by every folder on the way to it.
//
// The rule is the access check algorithm of POSIX 1003.1e draft 17 (acl(5)): the first class
// that an account is in decides, in the order owner, users that are named, groups (one that
// allows is enough), others; what is named and groups are cut by the mask. A folder on the way
// that an account may not search takes the file from it, whatever the file says.
package posix

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/core/privilege"
)

// Bits of permissions.
const (
	Read    = 4
	Write   = 2
	Execute = 1
)

// Node is a file, or a folder on the way to it.
type Node struct {
	Path   string
	UID    string
	GID    string
	Owner  int // bits
	Group  int
	Other  int
	Mask   int            // of what is named and of groups; 7 where there is none
	Users  map[string]int // named, by number
	Groups map[string]int
	Unsure string // why it is not known completely
}

// FromMode makes one of the numbers that stat tells.
func FromMode(name, uid, gid string, mode int) Node {
	return Node{Path: name, UID: uid, GID: gid, Owner: mode >> 6 & 7, Group: mode >> 3 & 7, Other: mode & 7, Mask: 7}
}

// Account is one that may be in any class.
type Account struct {
	ID   string // of the principal
	UID  string
	GIDs []string
}

// inForce is a node as Linux takes it: an access list whose mask leaves nothing is not looked
// at, so that whoever it names is one of the others (acl_permission_check in fs/namei.c, which
// departs from the draft there).
func (n Node) inForce() Node {
	if n.Mask == 0 {
		n.Users, n.Groups, n.Group, n.Mask = nil, nil, 0, 7
	}
	return n
}

// Allows says whether an account has all of some bits on a node alone. Root has all (but for
// running what nobody may run, which is not asked here).
func (n Node) Allows(a Account, bits int) bool {
	n = n.inForce()
	has := func(of int) bool { return of&bits == bits }
	switch named, is := n.Users[a.UID]; {
	case a.UID == "0":
		return true
	case a.UID == n.UID:
		return has(n.Owner)
	case is:
		return has(named & n.Mask)
	}
	in := false
	if slices.Contains(a.GIDs, n.GID) {
		in = true
		if has(n.Group & n.Mask) {
			return true
		}
	}
	for gid, of := range n.Groups {
		if slices.Contains(a.GIDs, gid) {
			in = true
			if has(of & n.Mask) {
				return true
			}
		}
	}
	return !in && has(n.Other)
}

// Reaches says whether an account has bits on the last of some nodes, through all before it.
func Reaches(way []Node, a Account, bits int) bool {
	last := len(way) - 1
	for _, folder := range way[:last] {
		if !folder.Allows(a, Execute) {
			return false
		}
	}
	return way[last].Allows(a, bits)
}

// Names finds the principals that numbers stand for; "" for none.
type Names struct {
	User, Group func(number string) string
	Everyone    string
}

// Verbs by bit.
var verbs = map[int]string{Read: "read", Write: "write"}

// List is what the way to a file says of reading or writing it. The first entry that is about
// somebody decides, and who is in none has nothing. Who is kept out by a folder has an entry of
// his own before all others. A list without entries says that only root may.
func List(way []Node, bit int, accounts []Account, names Names) privilege.List {
	file := way[len(way)-1].inForce()
	verb := verbs[bit]
	l := privilege.List{Key: "file:" + verb + ":" + file.Path, Decides: privilege.DecidesFirst, Objects: []privilege.Object{{Kind: "file", Name: file.Path}}}
	entry := func(to, text string, bits int) {
		if to != "" {
			l.Entries = append(l.Entries, privilege.Entry{To: to, Verb: verb, Deny: bits&bit == 0, Text: text, Source: file.Path, Unsure: file.Unsure})
		}
	}
	for _, a := range accounts {
		if a.UID == "0" || !file.Allows(a, bit) || Reaches(way, a, bit) {
			continue
		}
		at := slices.IndexFunc(way[:len(way)-1], func(n Node) bool { return !n.Allows(a, Execute) })
		l.Entries = append(l.Entries, privilege.Entry{To: a.ID, Verb: verb, Deny: true, Text: "no x for it", Source: way[at].Path, Unsure: way[at].Unsure})
	}
	if file.UID != "0" { // who has everything needs no line
		entry(names.User(file.UID), "user::"+Bits(file.Owner), file.Owner)
	}
	for _, uid := range sorted(file.Users) {
		entry(names.User(uid), "user:"+uid+":"+Bits(file.Users[uid])+cut(file.Users[uid], file.Mask), file.Users[uid]&file.Mask)
	}
	groups := map[string]int{file.GID: file.Group}
	text := map[string]string{file.GID: "group::" + Bits(file.Group) + cut(file.Group, file.Mask)}
	for gid, bits := range file.Groups {
		if _, own := groups[gid]; own { // the two together: one that allows is enough
			bits |= groups[gid]
		}
		groups[gid], text[gid] = bits, "group:"+gid+":"+Bits(bits)+cut(bits, file.Mask)
	}
	for _, allows := range []bool{true, false} {
		for _, gid := range sorted(groups) {
			if bits := groups[gid] & file.Mask; bits&bit != 0 == allows {
				entry(names.Group(gid), text[gid], bits)
			}
		}
	}
	if file.Other&bit != 0 { // others have what they have because nobody said otherwise
		entry(names.Everyone, "other::"+Bits(file.Other), file.Other)
		l.Entries[len(l.Entries)-1].Default = true
	}
	for len(l.Entries) > 0 && l.Entries[len(l.Entries)-1].Deny { // what keeps out those who have nothing says nothing
		l.Entries = l.Entries[:len(l.Entries)-1]
	}
	return l
}

func cut(bits, mask int) string {
	if bits&mask == bits {
		return ""
	}
	return " (cut by the mask " + Bits(mask) + ")"
}

func sorted[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// Bits writes permissions as lists have them.
func Bits(bits int) string {
	out := []byte("---")
	for i, letter := range []byte("rwx") {
		if bits>>(2-i)&1 != 0 {
			out[i] = letter
		}
	}
	return string(out)
}

func bitsOf(text string) (int, error) {
	if len(text) < 3 {
		return 0, fmt.Errorf("%q are no permissions", text)
	}
	bits := 0
	for i, letter := range []byte("rwx") {
		switch {
		case text[i] == letter || letter == 'x' && (text[i] == 's' || text[i] == 't'):
			bits |= 4 >> i
		case text[i] == '-' || letter == 'x' && (text[i] == 'S' || text[i] == 'T' || text[i] == 'X'):
		default:
			return 0, fmt.Errorf("%q are no permissions", text)
		}
	}
	return bits, nil
}

// ParseACL reads what getfacl tells with numbers (-n): one node for each file.
func ParseACL(text string) (map[string]Node, error) {
	out := map[string]Node{}
	var n Node
	flush := func() {
		if n.Path != "" {
			out[n.Path] = n
		}
	}
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if name, found := strings.CutPrefix(line, "# file: "); found {
			flush()
			n = Node{Path: unescape(name), Mask: 7, Users: map[string]int{}, Groups: map[string]int{}}
			continue
		}
		if uid, found := strings.CutPrefix(line, "# owner: "); found {
			n.UID = uid
			continue
		}
		if gid, found := strings.CutPrefix(line, "# group: "); found {
			n.GID = gid
			continue
		}
		if line == "" || strings.HasPrefix(line, "#") || strings.HasPrefix(line, "default:") {
			continue
		}
		line, _, _ = strings.Cut(line, "\t") // #effective:
		line, _, _ = strings.Cut(line, " ")
		f := strings.Split(line, ":")
		if len(f) != 3 || n.Path == "" {
			return nil, fmt.Errorf("%q is no entry of an access list", line)
		}
		bits, err := bitsOf(f[2])
		if err != nil {
			return nil, err
		}
		switch {
		case f[0] == "user" && f[1] == "":
			n.Owner = bits
		case f[0] == "user":
			n.Users[f[1]] = bits
		case f[0] == "group" && f[1] == "":
			n.Group = bits
		case f[0] == "group":
			n.Groups[f[1]] = bits
		case f[0] == "mask":
			n.Mask = bits
		case f[0] == "other":
			n.Other = bits
		default:
			return nil, fmt.Errorf("%q is no entry of an access list", line)
		}
	}
	flush()
	return out, nil
}

// unescape reads a name with octal escapes, as getfacl writes odd ones.
func unescape(name string) string {
	var b strings.Builder
	for i := 0; i < len(name); i++ {
		if name[i] == '\\' && i+3 < len(name) {
			if v, err := strconv.ParseUint(name[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(v))
				i += 3
				continue
			}
		}
		if name[i] == '\\' && i+1 < len(name) && name[i+1] == '\\' {
			i++
		}
		b.WriteByte(name[i])
	}
	return b.String()
}

// Way are the folders from the root to a file, and the file.
func Way(file string) []string {
	out := []string{file}
	for at := path.Dir(file); ; at = path.Dir(at) {
		out = append([]string{at}, out...)
		if at == "/" || at == "." {
			return out
		}
	}
}
