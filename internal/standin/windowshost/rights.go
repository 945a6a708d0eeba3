package windowshost

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	"mossledger.example/moss/internal/standin/windowshost/permissions"
	"mossledger.example/moss/internal/standin/windowshost/wql"
)

// Rights of users to be logged on in some way, and not to be.
const (
	LogOnAsService     = "SeServiceLogonRight"
	DenyLogOnAsService = "SeDenyServiceLogonRight"
	LogOnAsBatch       = "SeBatchLogonRight"
)

// Identifies is what an authority may tell beside: the security identifier of an account.
type Identifies interface {
	SID(account string) string
	// User reports whether it is an account, and no group.
	User(account string) bool
	// Groups are the groups of the domain that it lies in, to any depth.
	Groups(account string) []string
}

// SetPolicy has a policy of the domain give a right of users to some, and to nobody else.
func (h *Host) SetPolicy(right string, accounts ...string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.policy[right] = accounts
}

// SIDOf is the security identifier of an account or a local group.
func (h *Host) SIDOf(account string) string {
	h.lock.Lock()
	defer h.lock.Unlock()
	return h.sidOf(account)
}

func (h *Host) sidOf(account string) string {
	key := h.canonical(account)
	if h.sids[key] != "" {
		return h.sids[key]
	}
	sid := ""
	if u := h.local(account); u != nil {
		sid = h.sid(u.RID)
	}
	for i, g := range h.groups {
		if key == fold(h.Name+`\`+g.Name) || key == fold(`BUILTIN\`+g.Name) {
			sid = h.groupSID(i)
		}
	}
	if known, ok := h.Authority.(Identifies); sid == "" && ok {
		sid = known.SID(account)
	}
	if sid == "" {
		sum := fnv.New32a()
		_, _ = sum.Write([]byte(key)) // a hash never fails
		sid = fmt.Sprintf("S-1-5-21-7-7-7-%d", 2000+sum.Sum32()%100_000)
	}
	h.sids[key] = sid
	return sid
}

func (h *Host) groupSID(i int) string {
	switch h.groups[i].Name {
	case "Administrators":
		return "S-1-5-32-544"
	case Operators:
		return "S-1-5-32-580"
	}
	return h.sid(2000 + i)
}

// knownAs are the names and identifiers that an account is known by: its own, and those of
// the local groups that it lies in.
func (h *Host) knownAs(account string) []string {
	_, name, _ := strings.Cut(h.canonical(account), `\`)
	out := []string{account, h.canonical(account), h.sidOf(account), "S-1-1-0", "S-1-5-11", "S-1-5-2", "Everyone"}
	who := []string{h.canonical(account)} // and the groups of the domain, which may lie in the host's
	if h.local(account) != nil {
		out = append(out, name)
	} else if known, ok := h.Authority.(Identifies); ok {
		for _, g := range known.Groups(account) {
			out, who = append(out, h.NetBIOS+`\`+g), append(who, fold(h.NetBIOS+`\`+g))
		}
	}
	for i, g := range h.groups {
		if slices.ContainsFunc(g.Members, func(m string) bool { return slices.Contains(who, h.canonical(m)) }) {
			out = append(out, g.Name, `BUILTIN\`+g.Name, h.Name+`\`+g.Name, h.groupSID(i))
		}
	}
	return out
}

// granted reports whether an account may be logged on as a service: by a policy, or where
// that says nothing, by what the host itself has.
func (h *Host) granted(account string) bool {
	names := h.knownAs(account)
	if denied, _ := h.policy.Has(DenyLogOnAsService, names); denied {
		return false
	}
	has, told := h.policy.Has(LogOnAsService, names)
	return has || !told && h.rights[h.canonical(account)]
}

// mayDo reports whether who asks may do something to a service: administrators may all.
func (h *Host) mayDo(s *Service, method string) bool {
	mask := map[string]uint32{"startservice": permissions.Start, "stopservice": permissions.Stop}[method]
	if mask == 0 {
		mask = permissions.Change
	}
	return !h.partly || s.Descriptor != nil && permissions.May(s.Descriptor, h.knownAs(h.asker), mask)
}

// user is the instance of an account of the domain, which is found when it is asked for by
// its name, and in no enumeration.
func (h *Host) user(selectors map[string]string) []wql.Record {
	known, ok := h.Authority.(Identifies)
	account := h.NetBIOS + `\` + selectors["name"]
	if !ok || !strings.EqualFold(selectors["domain"], h.NetBIOS) || !known.User(account) {
		return nil
	}
	return []wql.Record{wql.NewRecord("Win32_UserAccount", []string{"Domain", "Name"}, []wql.Field{{"AccountType", 512}, {"Domain", h.NetBIOS}, {"LocalAccount", false}, {"Name", selectors["name"]}, {"SID", h.sidOf(account)}, {"SIDType", 1}})}
}

// sidRecords are the identifiers that were asked for, with who has them.
func (h *Host) sidRecords() []wql.Record {
	for _, u := range h.users {
		h.sidOf(h.Name + `\` + u.Name)
	}
	var out []wql.Record
	for account, sid := range h.sids {
		domain, name, _ := strings.Cut(account, `\`)
		out = append(out, wql.NewRecord("Win32_SID", []string{"SID"}, []wql.Field{{"AccountName", name}, {"ReferencedDomainName", strings.ToUpper(domain)}, {"SID", sid}, {"SidLength", 28}}))
	}
	return out
}
