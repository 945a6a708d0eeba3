// Package rights reads who may do what on a unix host: who lies in which group, what the
// rules of sudo allow, whom the SSH server lets in, and what units give to those whom they
// run as. It changes nothing.
package rights

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"path"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
)

// everyone is whoever has an account of the host.
const everyone = sudo.Everyone

// host is what is known of one while it is read.
type host struct {
	*shell.Session
	connect.Rights
	taker    connect.RightsTaker
	problems []connect.Unread
	byName   map[string]string // ids of accounts
	byUID    map[string]string
	groups   map[string]string   // ids by name
	called   map[string][]string // names of groups by id
	byGID    map[string]string
	of       map[string][]string // names of groups that an account is in, by its id
	names    map[string]string   // of accounts by id
	shown    string              // what systemctl tells of services
	homes    map[string]string   // of accounts that may have a shell, by id
}

// Read reads all of it.
func Read(ctx context.Context, s *shell.Session, emit func(connect.Batch) error) (connect.RightsCoverage, error) {
	h := &host{Session: s, taker: connect.RightsTaker{Emit: emit}, byName: map[string]string{}, byUID: map[string]string{}, groups: map[string]string{}, byGID: map[string]string{}, called: map[string][]string{}, of: map[string][]string{}, names: map[string]string{}, homes: map[string]string{}}
	if failure := s.ReadFacts(ctx); failure != nil {
		return h.taker.Coverage, failure
	}
	if failure := h.principals(ctx); failure != nil {
		return h.taker.Coverage, failure
	}
	for _, read := range []func(context.Context) *connect.Failure{h.sudo, h.signIn, h.units, h.files, h.keyEntries} {
		failure := read(ctx)
		switch {
		case failure == nil:
		case failure.Code == connect.CodeUnreachable || failure.Code == connect.CodeTimeout:
			return h.taker.Coverage, failure
		default:
			h.taker.Missing(&h.problems, connect.Unread{Stage: failure.Stage, Place: "rights", What: failure.Words, Next: failure.Next})
		}
	}
	return h.taker.Coverage, h.taker.Take(h.Rights, h.problems)
}

// principals reads users and groups, and who is in which.
func (h *host) principals(ctx context.Context) *connect.Failure {
	passwd, failure := h.Output(ctx, connect.StageRead, "/usr/bin/getent", "passwd")
	if failure != nil {
		return failure
	}
	group, failure := h.Output(ctx, connect.StageRead, "/usr/bin/getent", "group")
	if failure != nil {
		return failure
	}
	h.add(string(passwd), string(group))
	return nil
}

func (h *host) add(passwd, group string) {
	h.Principals = append(h.Principals, privilege.Principal{ID: everyone, Kind: privilege.KindEveryone, Name: "everyone"})
	for line := range strings.Lines(group) {
		f := strings.Split(strings.TrimRight(line, "\n"), ":")
		if len(f) < 4 || f[0] == "" || h.groups[f[0]] != "" {
			continue
		}
		id := "group:" + f[2]
		h.groups[f[0]] = id
		h.called[id] = append(h.called[id], f[0])
		if h.byGID[f[2]] == "" {
			h.byGID[f[2]] = id
			h.Principals = append(h.Principals, privilege.Principal{ID: id, Kind: privilege.KindGroup, Name: f[0]})
		}
	}
	for line := range strings.Lines(passwd) {
		f := strings.Split(strings.TrimRight(line, "\n"), ":")
		if len(f) < 7 || f[0] == "" || h.byName[f[0]] != "" {
			continue
		}
		id := h.Facts.Identity + ":" + f[2]
		h.byName[f[0]] = id
		if h.byUID[f[2]] == "" {
			h.byUID[f[2]] = id
			h.names[id] = f[0]
			if shell := path.Base(f[6]); shell != "nologin" && shell != "false" {
				h.homes[id] = f[5]
			}
			h.Principals = append(h.Principals, privilege.Principal{ID: id, Kind: privilege.KindAccount, Name: f[0]})
			if f[2] == "0" {
				h.Lists = append(h.Lists, privilege.List{Key: "root", Decides: privilege.DecidesAny, Objects: h.whole(), Entries: []privilege.Entry{{To: id, Verb: privilege.VerbEverything, Text: "user id 0", Source: "/etc/passwd"}}})
			}
		}
		h.member(id, h.byGID[f[3]], "primary group", "")
	}
	for line := range strings.Lines(group) {
		f := strings.Split(strings.TrimRight(line, "\n"), ":")
		if len(f) < 4 {
			continue
		}
		for name := range strings.SplitSeq(f[3], ",") {
			h.member(h.byName[strings.TrimSpace(name)], h.groups[f[0]], "", "")
		}
	}
}

// member notes a membership between two that are there.
func (h *host) member(id, group, how, term string) {
	if id == "" || group == "" {
		return
	}
	h.Memberships = append(h.Memberships, privilege.Membership{Member: id, Group: group, How: how, Term: term})
	if term == "" {
		h.of[id] = append(h.of[id], h.called[group]...)
	}
}

// whole is the host itself, as an object.
func (h *host) whole() []privilege.Object {
	return []privilege.Object{{Kind: privilege.ObjectSystem, Name: h.Target.Name}}
}

// id finds the principal that an item of sudo's rules names.
func (h *host) id(i sudo.Item) string {
	fold := func(of map[string]string) string {
		if id := of[i.Name]; id != "" {
			return id
		}
		for name, id := range of {
			if strings.EqualFold(name, i.Name) {
				return id
			}
		}
		return ""
	}
	switch i.Kind {
	case sudo.ItemAll:
		return everyone
	case sudo.ItemName:
		return fold(h.byName)
	case sudo.ItemID:
		return h.byUID[i.Name]
	case sudo.ItemGroup:
		return fold(h.groups)
	case sudo.ItemGroupID:
		return h.byGID[i.Name]
	}
	return ""
}

const sudoers = "/etc/sudoers"

// sudo reads the rules of sudo where it is installed.
func (h *host) sudo(ctx context.Context) *connect.Failure {
	there := h.Run(ctx, nil, "/usr/bin/stat", "-c", "%F", "--", sudoers)
	if there.Err == nil && there.Exit != 0 && strings.Contains(there.Errs, "No such file") {
		return nil
	}
	text, failure := h.ReadFile(ctx, sudoers)
	if failure != nil {
		return failure
	}
	name, addresses, failure := h.network(ctx)
	if failure != nil {
		return failure
	}
	var lost *connect.Failure
	policy := sudo.Parse(sudo.File{Path: sudoers, Text: string(text)}, name, func(p string, dir bool) ([]sudo.File, error) {
		if lost != nil {
			return nil, lost
		}
		files, failure := h.included(ctx, p, dir)
		if failure != nil {
			if failure.Code == connect.CodeUnreachable || failure.Code == connect.CodeTimeout {
				lost = failure
			}
			return files, fmt.Errorf("%s is not read: %s", p, failure.Words)
		}
		return files, nil
	})
	if lost != nil {
		return lost
	}
	for _, p := range policy.Problems {
		u := connect.Unread{Stage: connect.StageRead, Place: p.Place, What: p.What, Next: "visudo -c shows it as well; sudo passes over the line"}
		if strings.Contains(p.What, "is not read: ") {
			u.Next = "let the steward read it by sudo: /usr/bin/cat -- and /usr/bin/ls -1 --"
			h.taker.Missing(&h.problems, u)
			continue
		}
		h.problems = append(h.problems, u)
	}
	list := policy.List(sudo.Host{Name: cmp.Or(name, h.Target.Name), Addresses: addresses}, h.id)
	list.Objects = h.whole()
	h.Lists = append(h.Lists, list)
	return h.elsewhere(ctx)
}

// included reads what a line includes. A folder that is not there includes nothing.
func (h *host) included(ctx context.Context, p string, dir bool) ([]sudo.File, *connect.Failure) {
	paths := []string{p}
	if dir {
		r := h.Sudo(ctx, nil, "/usr/bin/ls", "-1", "--", p)
		if r.Err == nil && r.Exit != 0 && strings.Contains(r.Errs, "No such file") {
			return nil, nil
		}
		if failure := h.Failure(connect.StageRead, r, "/usr/bin/ls -1 -- "+p); failure != nil {
			return nil, failure
		}
		paths = nil
		for name := range strings.Lines(string(r.Out)) { // ls sorts by the locale C, as sudo does
			if name = strings.TrimRight(name, "\n"); name != "" && !strings.HasSuffix(name, "~") && !strings.Contains(name, ".") {
				paths = append(paths, path.Join(p, name))
			}
		}
	}
	var out []sudo.File
	for _, one := range paths {
		text, failure := h.ReadFile(ctx, one)
		if failure != nil {
			return out, failure
		}
		out = append(out, sudo.File{Path: one, Text: string(text)})
	}
	return out, nil
}

// network reads the name and the addresses that rules may name the host by.
func (h *host) network(ctx context.Context) (name string, addresses []netip.Prefix, failure *connect.Failure) {
	raw, failure := h.Output(ctx, connect.StageRead, "/usr/bin/uname", "-n")
	if failure != nil {
		return "", nil, failure
	}
	name = strings.TrimSpace(string(raw))
	r := h.Run(ctx, nil, "/usr/sbin/ip", "-o", "addr", "show")
	if r.Err != nil {
		return name, nil, h.Failure(connect.StageRead, r, "ip -o addr show")
	}
	for line := range strings.Lines(string(r.Out)) {
		f := strings.Fields(line)
		for i, word := range f {
			if (word == "inet" || word == "inet6") && i+1 < len(f) {
				if prefix, err := netip.ParsePrefix(f[i+1]); err == nil && !prefix.Addr().IsLoopback() {
					addresses = append(addresses, prefix)
				}
			}
		}
	}
	return name, addresses, nil
}

// elsewhere tells where rules of sudo may stand beside its files (nsswitch.conf(5),
// sudoers.ldap(5)): those are not read.
func (h *host) elsewhere(ctx context.Context) *connect.Failure {
	r := h.Run(ctx, nil, "/usr/bin/cat", "--", "/etc/nsswitch.conf")
	if r.Err != nil {
		return h.Failure(connect.StageRead, r, "cat /etc/nsswitch.conf")
	}
	for line := range strings.Lines(string(r.Out)) {
		rest, is := strings.CutPrefix(strings.TrimSpace(line), "sudoers:")
		for source := range strings.FieldsSeq(rest) {
			if is && source != "files" && !strings.HasPrefix(source, "[") {
				h.taker.Missing(&h.problems, connect.Unread{Stage: connect.StageRead, Place: "/etc/nsswitch.conf", What: "sudo also takes rules from " + source + ", which are not read", Next: "what sudo -l -U NAME says on the host has them"})
			}
		}
	}
	return nil
}
