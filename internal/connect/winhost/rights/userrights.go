package rights

import (
	"slices"
	"strings"

	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/privilege"
)

const (
	byRemoteDesktop = "by remote desktop"
	atHost          = "at the host"
	overNetwork     = "over the network"
)

// userRight is a right of users by its constant ([MS-LSAD], section 3.1.1.2).
type userRight struct {
	constant, verb, what string
	deny                 bool
}

var userRights = []userRight{
	{"SeServiceLogonRight", privilege.VerbSignIn, privilege.AsService, false},
	{"SeDenyServiceLogonRight", privilege.VerbSignIn, privilege.AsService, true},
	{"SeBatchLogonRight", privilege.VerbSignIn, privilege.AsBatch, false},
	{"SeDenyBatchLogonRight", privilege.VerbSignIn, privilege.AsBatch, true},
	{"SeNetworkLogonRight", privilege.VerbSignIn, overNetwork, false},
	{"SeDenyNetworkLogonRight", privilege.VerbSignIn, overNetwork, true},
	{"SeInteractiveLogonRight", privilege.VerbSignIn, atHost, false},
	{"SeDenyInteractiveLogonRight", privilege.VerbSignIn, atHost, true},
	{"SeRemoteInteractiveLogonRight", privilege.VerbSignIn, byRemoteDesktop, false},
	{"SeDenyRemoteInteractiveLogonRight", privilege.VerbSignIn, byRemoteDesktop, true},
	{"SeTcbPrivilege", "act as the system", "", false},
	{"SeDebugPrivilege", "debug programs", "", false},
	{"SeBackupPrivilege", "read every file", "", false},
	{"SeRestorePrivilege", "write every file", "", false},
	{"SeTakeOwnershipPrivilege", "own every object", "", false},
	{"SeImpersonatePrivilege", "act as who signs in to it", "", false},
	{"SeAssignPrimaryTokenPrivilege", "start programs as others", "", false},
	{"SeCreateTokenPrivilege", "make log-ons of its own", "", false},
	{"SeLoadDriverPrivilege", "load drivers", "", false},
	{"SeSecurityPrivilege", "read and clear the log of security", "", false},
	{"SeEnableDelegationPrivilege", "trust accounts for delegation", "", false},
	{"SeShutdownPrivilege", "shut down", "", false},
	{"SeRemoteShutdownPrivilege", "shut down over the network", "", false},
}

// rightOf finds one.
func rightOf(constant string) (userRight, bool) {
	for _, r := range userRights {
		if strings.EqualFold(r.constant, constant) {
			return r, true
		}
	}
	return userRight{}, false
}

// userRights reads the user rights that a policy sets, and takes services that run for
// what they show of the rest.
func (r *reader) userRights() error {
	policies := map[userRight][]string{}
	err := r.Enumerate(spacePolicy, "RSOP_UserPrivilegeRight", "", func(i *wsman.Instance) error {
		// The one with the precedence 1 is in force; those below are what it overrides.
		if right, told := rightOf(i.Text("UserRight")); told && i.Int("precedence") <= 1 {
			policies[right] = i.List("AccountList")
		}
		return nil
	})
	absent := wsman.Is(err, wsman.NumberNoClass) || wsman.Is(err, wsman.NumberNoNamespace) // no policy reaches the host
	if err != nil && !absent {
		if !one(err) {
			return err
		}
		r.missing("RSOP_UserPrivilegeRight", "the user rights that a policy sets: "+err.Error())
	}
	runs, err := r.running()
	if err != nil {
		return err
	}
	for _, right := range userRights {
		if right.deny {
			continue
		}
		l := privilege.List{Key: "user-right:" + right.verb + ":" + right.what, Decides: privilege.DecidesFirst, Objects: r.whole()}
		for _, denies := range userRights { // what forbids comes before what gives
			if denies.deny && denies.verb == right.verb && denies.what == right.what {
				if err := r.policy(&l, denies, policies[denies]); err != nil {
					return err
				}
			}
		}
		accounts, set := policies[right]
		switch {
		case set:
			if err := r.policy(&l, right, accounts); err != nil {
				return err
			}
			if err := r.nobodyElse(&l, right, accounts); err != nil {
				return err
			}
		case right.what == privilege.AsService:
			l.Entries = runs
		}
		if set && right.what == byRemoteDesktop { // then the group gives it no longer by itself
			r.out.Lists = slices.DeleteFunc(r.out.Lists, func(l privilege.List) bool { return l.Key == "group:S-1-5-32-555" })
		}
		if len(l.Entries) > 0 {
			r.out.Lists = append(r.out.Lists, l)
		}
	}
	return nil
}

// policy adds what a policy says of one right to the list about it.
func (r *reader) policy(l *privilege.List, right userRight, accounts []string) error {
	for _, account := range accounts {
		id, err := r.listed(strings.TrimSpace(account))
		if err != nil {
			return err
		}
		l.Entries = append(l.Entries, privilege.Entry{To: id, Verb: right.verb, What: right.what, Deny: right.deny, Text: right.constant + " = " + account, Source: byPolicy})
	}
	return nil
}

const byPolicy = "a policy of the domain"

// nobodyElse ends the list: what a policy gives replaces what the host has.
func (r *reader) nobodyElse(l *privilege.List, right userRight, accounts []string) error {
	id, err := r.trustee(everyone)
	if err != nil {
		return err
	}
	last := privilege.Entry{To: id, Verb: right.verb, What: right.what, Deny: true, Default: true, Text: right.constant + " names nobody else", Source: byPolicy}
	for _, account := range accounts {
		listed, err := r.listed(strings.TrimSpace(account))
		if err != nil {
			return err
		}
		if in := r.unseen(listed, account); in != "" {
			last.Unsure = "whoever lies in " + in + " has it, and the host does not tell who that is"
			break
		}
	}
	l.Entries, l.Decides = append(l.Entries, last), privilege.DecidesAlone
	return nil
}

// listed is the principal that a policy names: *S-1-..., DOMAIN\name, or the name of one of the
// host itself.
func (r *reader) listed(account string) (string, error) {
	if sid, is := strings.CutPrefix(account, "*"); is {
		return r.trustee(sid)
	}
	if strings.HasPrefix(account, "S-1-") {
		return r.trustee(account)
	}
	if !strings.Contains(account, `\`) {
		if id := r.ids[strings.ToLower(r.Name+`\`+account)]; id != "" {
			return id, nil
		}
	}
	return r.told(account)
}

// unseen names what may have members that the host does not tell: a group of a domain, or
// something of which it is not known what it is.
func (r *reader) unseen(id, name string) string {
	in := map[string]bool{id: true}
	for grown := true; grown; { // whoever lies in it, to any depth
		grown = false
		for _, m := range r.out.Memberships {
			if in[m.Group] && !in[m.Member] {
				in[m.Member], grown = true, true
			}
		}
	}
	for _, p := range r.out.Principals {
		if in[p.ID] && (r.foreign[p.ID] || p.Kind == privilege.KindUnknown && !ofTheSystem(p)) {
			if p.ID == id {
				return name
			}
			return p.Name
		}
	}
	return ""
}

// asSomebody leaves out the many services that run as the system itself.
var asSomebody = "StartName<>'LocalSystem' and StartName<>" + wsman.Quote(`NT AUTHORITY\LocalService`) + " and StartName<>" + wsman.Quote(`NT AUTHORITY\NetworkService`)

// running are the entries of those as whom services run: they could be logged on so when
// these started. Whoever services log on as is known on the host by that, whether they run or
// not. The system's own identities need no right.
func (r *reader) running() (out []privilege.Entry, err error) {
	seen := map[string]bool{}
	err = r.Enumerate(spaceCIM, "Win32_Service", asSomebody, func(i *wsman.Instance) error {
		service, account := i.Text("Name"), strings.Replace(i.Text("StartName"), ".\\", r.Name+"\\", 1)
		if lower := strings.ToLower(account); account == "" || lower == "localsystem" || ofTheSystem(privilege.Principal{Name: lower}) {
			return nil
		}
		id := r.named(account, privilege.KindAccount)
		if i.Text("State") != "Running" || seen[id] {
			return nil
		}
		seen[id] = true
		out = append(out, privilege.Entry{
			To: id, Verb: privilege.VerbSignIn, What: privilege.AsService, Text: "the service " + service + " runs as it",
			Unsure: "it could when " + service + " started; whether it still may is told by no class that is read",
		})
		return nil
	})
	return out, err
}

// ofTheSystem: it is an identity of the system or of services, in which no account lies.
func ofTheSystem(p privilege.Principal) bool {
	name := strings.ToLower(p.Name)
	return strings.HasPrefix(name, "nt service\\") || strings.HasPrefix(name, "nt authority\\") || strings.HasPrefix(p.ID, "S-1-5-80-") || slices.Contains([]string{"S-1-5-18", "S-1-5-19", "S-1-5-20"}, p.ID)
}
