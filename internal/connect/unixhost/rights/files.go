package rights

import (
	"context"
	"slices"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/posix"
)

// Files that services use, and those that let holders of keys in, with every folder on the
// way: who may read what a service reads, and who may write what it runs or what lets in.

// fileProperties are where a unit says which files it uses (systemd.exec(5), systemd.unit(5)).
const fileProperties = "EnvironmentFiles,LoadCredential,ExecStart,FragmentPath,DropInPaths"

// mostFiles is how many files of a host are looked at.
const mostFiles = 400

// asked is what is asked of a file.
type asked struct {
	read, write bool
	users       []string // whom units that use it run as
}

func (h *host) files(ctx context.Context) *connect.Failure {
	wanted := filesOf(h.shown)
	for _, file := range h.keyFiles() {
		wanted[file] = asked{write: true}
	}
	paths := make([]string, 0, len(wanted))
	for p := range wanted {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	if len(paths) > mostFiles {
		h.taker.Missing(&h.problems, connect.Unread{Stage: connect.StageRead, Place: "files of services", What: "there are more than can be looked at", Next: "those after the first " + paths[mostFiles] + " are left out"})
		paths = paths[:mostFiles]
	}
	nodes, hidden, failure := h.nodes(ctx, paths)
	if failure != nil {
		return failure
	}
	accounts := h.accounts()
	names := posix.Names{User: func(n string) string { return h.byUID[n] }, Group: func(n string) string { return h.byGID[n] }, Everyone: everyone}
	for _, p := range paths {
		way, why := wayOf(p, nodes, hidden)
		for _, bit := range []int{posix.Read, posix.Write} {
			if bit == posix.Read && !wanted[p].read || bit == posix.Write && !wanted[p].write {
				continue
			}
			switch {
			case why != "": // not there is no answer either: it is not a file that anybody may read
				l := privilege.List{Key: "file:" + map[int]string{posix.Read: "read", posix.Write: "write"}[bit] + ":" + p, Decides: privilege.DecidesFirst, Objects: []privilege.Object{{Kind: "file", Name: p}}}
				l.Entries = []privilege.Entry{{To: everyone, Verb: map[int]string{posix.Read: "read", posix.Write: "write"}[bit], Unsure: why, Default: true, Text: "(not shown)", Source: p}}
				h.Lists = append(h.Lists, l)
			case way != nil:
				if l := posix.List(way, bit, accounts, names); len(l.Entries) > 0 {
					h.usual(&l, wanted[p])
					h.Lists = append(h.Lists, l)
				}
			}
		}
	}
	return nil
}

// filesOf reads which files units use.
func filesOf(text string) map[string]asked {
	out := map[string]asked{}
	for block := range strings.SplitSeq(text, "\n\n") {
		filesOfUnit(block, out)
	}
	for p, a := range out {
		if !a.read && !a.write {
			delete(out, p)
		}
	}
	return out
}

func filesOfUnit(block string, out map[string]asked) {
	user := ""
	add := func(p string, read, write bool) {
		if p = strings.TrimSpace(p); strings.HasPrefix(p, "/") && !strings.ContainsAny(p, "\n\x00*?") {
			was := out[p]
			out[p] = asked{was.read || read, was.write || write, append(was.users, user)}
		}
	}
	for line := range strings.Lines(block) {
		if name, found := strings.CutPrefix(strings.TrimRight(line, "\n"), "User="); found {
			user = name
		}
	}
	for line := range strings.Lines(block) {
		name, value, _ := strings.Cut(strings.TrimRight(line, "\n"), "=")
		switch name {
		case "EnvironmentFiles":
			p, _, _ := strings.Cut(value, " (")
			add(p, true, true)
		case "LoadCredential":
			for one := range strings.FieldsSeq(value) {
				_, p, _ := strings.Cut(one, ":")
				add(p, true, true)
			}
		case "ExecStart":
			_, rest, _ := strings.Cut(value, "path=")
			p, _, _ := strings.Cut(rest, " ;")
			if !ofTheSystem(p) { // what packages bring root alone writes
				add(p, false, true)
			}
		case "FragmentPath":
			if strings.HasPrefix(value, "/etc/") {
				add(value, false, true)
			}
		case "DropInPaths":
			for p := range strings.FieldsSeq(value) {
				add(p, false, strings.HasPrefix(p, "/etc/"))
			}
		}
	}
}

// usual marks entries by which accounts have files that they use: a unit says so.
func (h *host) usual(l *privilege.List, a asked) {
	for _, user := range a.users {
		id := h.byName[user]
		if id == "" {
			continue
		}
		for i := range l.Entries {
			e := &l.Entries[i]
			e.Default = e.Default || e.To == id || h.isMember(id, e.To)
		}
	}
}

func ofTheSystem(p string) bool {
	return slices.ContainsFunc([]string{"/usr/bin/", "/usr/sbin/", "/usr/lib/", "/bin/", "/sbin/", "/lib/"}, func(folder string) bool { return strings.HasPrefix(p, folder) })
}

// keyFiles are where accounts that may sign in have the keys that let them in (sshd_config(5),
// AuthorizedKeysFile, where it says nothing else).
func (h *host) keyFiles() (out []string) {
	for _, home := range h.homes {
		if home != "" && home != "/" && home != "/nonexistent" {
			out = append(out, strings.TrimSuffix(home, "/")+"/.ssh/authorized_keys")
		}
	}
	return out
}

// accounts are all of the host, with their groups.
func (h *host) accounts() []posix.Account {
	in := map[string][]string{}
	for _, m := range h.Memberships {
		if m.Term == "" {
			in[m.Member] = append(in[m.Member], strings.TrimPrefix(m.Group, "group:"))
		}
	}
	var out []posix.Account
	for uid, id := range h.byUID {
		out = append(out, posix.Account{ID: id, UID: uid, GIDs: in[id]})
	}
	slices.SortFunc(out, func(a, b posix.Account) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// wayOf are the nodes of the way to a file; nil where it is not there. why says that a part of
// it is not shown.
func wayOf(file string, nodes map[string]posix.Node, hidden map[string]bool) (way []posix.Node, why string) {
	for _, p := range posix.Way(file) {
		n, known := nodes[p]
		switch {
		case hidden[p]:
			return nil, "the permissions of " + p + " are not shown to the steward"
		case !known:
			return nil, ""
		}
		way = append(way, n)
	}
	return way, ""
}

// nodes reads permissions of files and all folders on the way.
func (h *host) nodes(ctx context.Context, files []string) (nodes map[string]posix.Node, hidden map[string]bool, failure *connect.Failure) {
	nodes, hidden = map[string]posix.Node{}, map[string]bool{}
	var all []string
	seen := map[string]bool{}
	for _, file := range files {
		for _, p := range posix.Way(file) {
			if !seen[p] {
				seen[p] = true
				all = append(all, p)
			}
		}
	}
	var listed []string
	take := func(r shell.Reply) {
		for line := range strings.Lines(string(r.Out)) {
			n, acl, ok := nodeOf(strings.TrimRight(line, "\n"))
			if !ok {
				continue
			}
			nodes[n.Path] = n
			delete(hidden, n.Path)
			if acl {
				listed = append(listed, n.Path)
			}
		}
		for line := range strings.Lines(r.Errs) {
			if p, denied := strings.CutSuffix(strings.TrimSpace(line), ": Permission denied"); denied {
				p = p[strings.Index(p, "'")+1:]
				hidden[strings.TrimSuffix(p, "'")] = true
			} else if p, gone := strings.CutSuffix(strings.TrimSpace(line), ": No such file or directory"); gone {
				delete(hidden, strings.TrimSuffix(p[strings.Index(p, "'")+1:], "'"))
			}
		}
	}
	for part := range slices.Chunk(all, 500) {
		r := h.Run(ctx, nil, append(slices.Clone(listCommand), part...)...)
		if r.Err != nil {
			return nil, nil, h.Failure(connect.StageRead, r, "/usr/bin/ls")
		}
		take(r)
	}
	if len(hidden) > 0 && !h.Root { // in folders that the steward may not look into
		closed := sorted(hidden)
		for part := range slices.Chunk(closed, 500) {
			r := h.Sudo(ctx, nil, append(slices.Clone(listCommand), part...)...)
			if r.Err != nil {
				return nil, nil, h.Failure(connect.StageRead, r, "/usr/bin/ls")
			}
			take(r)
		}
	}
	read, failure, err := h.accessLists(ctx, listed)
	if failure != nil {
		return nil, nil, failure
	}
	for _, p := range listed {
		n, known := read[p]
		switch {
		case err != nil:
			n = nodes[p]
			n.Unsure = "its access list is not understood: " + err.Error()
		case !known:
			n = nodes[p]
			n.Unsure = "it has an access list that is not shown: let the host have getfacl"
		}
		nodes[p] = n
	}
	return nodes, hidden, nil
}

// listCommand tells permissions by numbers; what stands in names stands there as it is.
var listCommand = []string{"/usr/bin/ls", "-ldnULN", "--time-style", "+%s", "--"}

// ListRights are what sudo has to allow for folders that the steward may not look into.
func ListRights() []string {
	return []string{"/usr/bin/ls ^-ldnULN --time-style [+]%s -- .+$", "/usr/bin/getfacl ^-p -n -- .+$"}
}

// accessLists reads those that are more than a mode.
func (h *host) accessLists(ctx context.Context, listed []string) (map[string]posix.Node, *connect.Failure, error) {
	read := map[string]posix.Node{}
	if len(listed) == 0 {
		return read, nil, nil
	}
	run := func(with func(context.Context, []byte, ...string) shell.Reply, of []string) (*connect.Failure, error) {
		r := with(ctx, nil, append([]string{"/usr/bin/getfacl", "-p", "-n", "--"}, of...)...)
		if r.Err != nil {
			return h.Failure(connect.StageRead, r, "/usr/bin/getfacl"), nil
		}
		part, err := posix.ParseACL(string(r.Out))
		for p, n := range part {
			read[p] = n
		}
		return nil, err
	}
	failure, err := run(h.Run, listed)
	if failure != nil || err != nil || h.Root {
		return read, failure, err
	}
	rest := slices.DeleteFunc(slices.Clone(listed), func(p string) bool { _, known := read[p]; return known })
	if len(rest) > 0 {
		failure, err = run(h.Sudo, rest)
	}
	return read, failure, err
}

func sorted(m map[string]bool) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// nodeOf reads a line of ls: mode, links, owner, group, size, time, name.
func nodeOf(line string) (n posix.Node, acl, ok bool) {
	var fields []string
	rest := line
	for len(fields) < 6 {
		var field string
		rest = strings.TrimLeft(rest, " ")
		if field, rest, ok = strings.Cut(rest, " "); !ok {
			return n, false, false
		}
		fields = append(fields, field)
	}
	mode := fields[0]
	if len(mode) < 10 || !strings.HasPrefix(rest, "/") {
		return n, false, false
	}
	bits := 0
	for i := range 9 {
		c := mode[1+i]
		if c != '-' && c != 'S' && c != 'T' {
			bits |= 1 << (8 - i)
		}
	}
	return posix.FromMode(rest, fields[2], fields[3], bits), strings.HasSuffix(mode, "+"), true
}

// keyEntries reads who is let in by which key, where that is shown: the key's fingerprint and
// what its entry says of it are the right (sshd(8), "AUTHORIZED_KEYS FILE FORMAT").
func (h *host) keyEntries(ctx context.Context) *connect.Failure {
	contents, _, failure := h.ReadMany(ctx, h.keyFiles())
	if failure != nil {
		return failure
	}
	for id, home := range h.homes {
		file := strings.TrimSuffix(home, "/") + "/.ssh/authorized_keys"
		read, there := contents[file]
		if !there {
			continue
		}
		l := privilege.List{Key: "keys:" + file, Decides: privilege.DecidesAny, Objects: h.whole()}
		entries, _ := keys.ParseAuthorized(read.Content)
		for _, e := range entries {
			entry := privilege.Entry{To: id, Verb: "be signed in to by key", What: e.Fingerprint, Text: strings.TrimSpace(e.Type + " " + e.Comment), Source: file, Default: true}
			entry.Terms = append(entry.Terms, e.Options...)
			l.Entries = append(l.Entries, entry)
		}
		if len(l.Entries) > 0 {
			h.Lists = append(h.Lists, l)
		}
	}
	return nil
}
