package managing

import (
	"cmp"
	"encoding/xml"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/privilege/descriptor"
)

// disabled is the flag of userAccountControl ([MS-ADTS], section 2.2.16).
const disabled = 2

// account reads one, and which hosts may ask for its password. One that is not there, or is no
// managed account, is not told: nothing else is read this way.
func (r *reader) account(dn string) error {
	e, _, err := r.entry(dn, "objectClass", "sAMAccountName", "userAccountControl", "dNSHostName", "msDS-ManagedPasswordInterval", "msDS-SupportedEncryptionTypes",
		"pwdLastSet", "servicePrincipalName", "msDS-GroupMSAMembership")
	if err != nil || e == nil {
		return err
	}
	a := &managed.AccountSeen{Name: e.GetAttributeValue("sAMAccountName"), DN: e.DN, Enabled: enabled(e), DNSName: e.GetAttributeValue("dNSHostName"), Encryption: encryption(e),
		Changed: values.FileTime(e.GetAttributeValue("pwdLastSet")), Services: e.GetAttributeValues("servicePrincipalName"), Permitted: []managed.Entitled{}, Hosts: []managed.HostSeen{}}
	a.Interval, _ = strconv.Atoi(e.GetAttributeValue("msDS-ManagedPasswordInterval"))
	switch {
	case has(e, "objectClass", Class):
		a.Sort = managed.SortGroup
	case has(e, "objectClass", "msDS-ManagedServiceAccount"):
		a.Sort = managed.SortSingle
	case slices.ContainsFunc(e.GetAttributeValues("objectClass"), func(class string) bool {
		return strings.HasPrefix(strings.ToLower(class), "msds-") && strings.HasSuffix(strings.ToLower(class), "managedserviceaccount")
	}):
		a.Sort = managed.SortOther
	default:
		return nil
	}
	r.seen.Account = a
	if raw := e.GetRawAttributeValue("msDS-GroupMSAMembership"); len(raw) > 0 {
		return r.permitted(a, raw)
	}
	return nil
}

func enabled(e *ldap.Entry) estate.Tristate {
	flags, err := strconv.ParseInt(e.GetAttributeValue("userAccountControl"), 10, 64)
	if err != nil {
		return estate.Unknown
	}
	return estate.Known(flags&disabled == 0)
}

func encryption(e *ldap.Entry) managed.Encryption {
	types, err := strconv.ParseInt(e.GetAttributeValue("msDS-SupportedEncryptionTypes"), 10, 64)
	if err != nil {
		return 0
	}
	return managed.Encryption(uint32(types))
}

// permitted reads who may ask for the password from the descriptor that says so, and the hosts
// among them.
func (r *reader) permitted(a *managed.AccountSeen, raw []byte) error {
	d, err := descriptor.Parse(raw)
	if err != nil || d.Rules == nil {
		a.Partly = "who may ask for the password cannot be read: the descriptor is not understood"
		return nil //nolint:nilerr // it is told
	}
	walk := &walk{reader: r, account: a, seen: map[string]bool{}}
	for _, entry := range d.Rules.Entries {
		if entry.Mask&descriptor.ReadProperty == 0 && entry.Mask&descriptor.GenericAll == 0 {
			continue
		}
		if entry.Denies() {
			walk.partly("somebody is denied the password: whom that leaves is not worked out here")
			continue
		}
		sid := entry.Trustee.String()
		if slices.ContainsFunc(a.Permitted, func(p managed.Entitled) bool { return p.SID == sid }) {
			continue
		}
		p, err := walk.principal(sid)
		if err != nil {
			return err
		}
		a.Permitted = append(a.Permitted, p)
	}
	return walk.groups()
}

// walk goes from the groups that are permitted to the hosts in them.
type walk struct {
	*reader
	account *managed.AccountSeen
	left    []step
	seen    map[string]bool // groups and hosts, by their folded names
}

// step is a group that is still to be looked at.
type step struct {
	dn, permitted string    // the group, and the one that is permitted and has it in it
	joined        time.Time // when it came to be in that one
	exact         bool      // joined is when, not the latest that it can have been
}

// mostGroups is how many groups in each other are looked at.
const mostGroups = 200

func (w *walk) partly(words string) {
	if w.account.Partly == "" {
		w.account.Partly = words
	}
}

// principal finds out who has a SID.
func (w *walk) principal(sid string) (managed.Entitled, error) {
	p := managed.Entitled{SID: sid, Name: descriptor.WellKnown[sid], Kind: "unknown"}
	found, _, err := w.entries(w.base, ldap.ScopeWholeSubtree, "(objectSid="+ldap.EscapeFilter(sid)+")", hostAttributes...)
	if err != nil {
		return p, err
	}
	if len(found) != 1 {
		w.partly(cmp.Or(p.Name, sid) + " is nobody whom this directory shows")
		return p, nil
	}
	e := found[0]
	p.Name, p.DN, p.Kind = e.GetAttributeValue("sAMAccountName"), e.DN, kindOf(e)
	switch p.Kind {
	case "group":
		w.left = append(w.left, step{dn: e.DN, permitted: p.Name, exact: true})
	case "computer":
		w.host(e, managed.HostSeen{})
	}
	return p, nil
}

var hostAttributes = []string{"objectClass", "sAMAccountName", "dNSHostName", "objectSid", "userAccountControl", "msDS-SupportedEncryptionTypes"}

func kindOf(e *ldap.Entry) string {
	for _, kind := range []string{"group", "computer", "user"} {
		if has(e, "objectClass", kind) {
			return kind
		}
	}
	return "unknown"
}

func (w *walk) host(e *ldap.Entry, h managed.HostSeen) {
	if w.seen[values.Fold(e.DN)] {
		return
	}
	w.seen[values.Fold(e.DN)] = true
	h.Name, h.DN, h.DNSName, h.SID = strings.TrimSuffix(e.GetAttributeValue("sAMAccountName"), "$"), e.DN, e.GetAttributeValue("dNSHostName"), values.SIDText(e.GetRawAttributeValue("objectSid"))
	h.Enabled, h.Encryption = enabled(e), encryption(e)
	w.account.Hosts = append(w.account.Hosts, h)
}

// groups looks into the groups that are left, and those in them.
func (w *walk) groups() error {
	for ; len(w.left) > 0; w.left = w.left[1:] {
		at := w.left[0]
		if w.seen[values.Fold(at.dn)] {
			continue
		}
		if len(w.seen) > mostGroups+mostEntries {
			w.partly(fmt.Sprintf("more than %d groups and hosts are permitted", mostGroups+mostEntries))
			return nil
		}
		w.seen[values.Fold(at.dn)] = true
		if err := w.group(at); err != nil {
			return err
		}
	}
	return nil
}

func (w *walk) group(at step) error {
	group, _, err := w.entry(at.dn, "whenChanged", "msDS-ReplValueMetaData", "objectSid")
	if err != nil {
		return err
	}
	if group == nil {
		w.partly(at.dn + " is not shown")
		return nil
	}
	joined, latest := joinedTimes(group), values.GeneralizedTime(group.GetAttributeValue("whenChanged"))
	found, words, err := w.entries(w.base, ldap.ScopeWholeSubtree, "(memberOf="+ldap.EscapeFilter(at.dn)+")", hostAttributes...)
	if err != nil {
		return err
	}
	if words != "" {
		w.partly(at.dn + ": " + words)
	}
	// Members by their primary group are in no list, and those of other domains are not below this one.
	if sid := values.SIDText(group.GetRawAttributeValue("objectSid")); strings.HasPrefix(sid, "S-1-5-21-") && slices.Contains([]string{"513", "515", "516"}, sid[strings.LastIndexByte(sid, '-')+1:]) {
		w.partly(at.permitted + " has members that no list tells: all whose primary group it is")
	}
	for _, e := range found {
		next := step{dn: e.DN, permitted: at.permitted, joined: latest}
		if t, told := joined[values.Fold(e.DN)]; told {
			next.joined, next.exact = t, at.exact
		}
		if at.joined.After(next.joined) {
			next.joined = at.joined
		}
		switch kindOf(e) {
		case "group":
			w.left = append(w.left, next)
		case "computer":
			h := managed.HostSeen{Through: at.permitted, Within: at.dn}
			if next.exact {
				h.Joined = next.joined
			} else {
				h.Latest = next.joined
			}
			w.host(e, h)
		}
	}
	return nil
}

// joinedTimes are when members came to be in a group, by their folded names: what replication
// keeps of each link ([MS-ADTS], section 3.1.1.4.5.23). Empty where a directory does not tell it.
func joinedTimes(group *ldap.Entry) map[string]time.Time {
	out := map[string]time.Time{}
	for _, a := range group.Attributes {
		if name, _, _ := strings.Cut(strings.ToLower(a.Name), ";"); name != "msds-replvaluemetadata" {
			continue
		}
		for _, text := range a.Values {
			var link struct {
				Attribute string    `xml:"pszAttributeName"`
				Object    string    `xml:"pszObjectDn"`
				Created   time.Time `xml:"ftimeCreated"`
				Deleted   time.Time `xml:"ftimeDeleted"`
				Changed   time.Time `xml:"ftimeLastOriginatingChange"`
			}
			if xml.Unmarshal([]byte(strings.TrimRight(text, "\x00")), &link) != nil || !strings.EqualFold(link.Attribute, "member") || link.Deleted.Year() > 1601 {
				continue
			}
			// One that left and came back is the same link, changed.
			at := link.Created
			if link.Changed.After(at) {
				at = link.Changed
			}
			if at.Year() > 1601 {
				out[values.Fold(link.Object)] = at
			}
		}
	}
	return out
}
