// Package rights reads who may do what on a windows host: who lies in which local group, and
// what the groups that every host has give; who may start, stop and change each service; and
// the user rights (such as to log on as a service) that a policy sets.
//
// User rights that were set on the host itself, and not by a policy, are told by no class
// that is read. So no reading is complete; what a policy sets is known for certain all the
// same, because it replaces what was set on the host.
package rights

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/descriptor"
)

// Name spaces of the classes that are read.
const (
	spaceCIM    = "root/cimv2"
	spacePolicy = "root/rsop/computer"
)

// Registry calls a method that reads a key of the local machine.
type Registry func(method, key string, more ...wsman.Pair) (*wsman.Instance, error)

// Host is what a host is asked by.
type Host struct {
	Name string // NetBIOS name
	// Enumerate enumerates the instances of a class.
	Enumerate func(space, class, where string, each func(*wsman.Instance) error) error
	// Registry calls a method that reads a key of the local machine.
	Registry Registry
	// Another makes a connection more, for questions at the same time, and how to end it; nil
	// for one after the other.
	Another func() (Registry, func(), error)
	// Get reads one instance.
	Get func(wsman.Resource) (*wsman.Instance, error)
}

const classes = "http://schemas.microsoft.com/wbem/wsman/1/wmi/" + spaceCIM + "/"

// get reads an instance; nil where there is none.
func (r *reader) get(class string, selectors ...wsman.Pair) (*wsman.Instance, error) {
	i, err := r.Get(wsman.Resource{URI: classes + class, Selectors: selectors})
	if wsman.Is(err, wsman.NumberNotFound) {
		return nil, nil //nolint:nilnil // there is none, and that is no error
	}
	return i, err
}

// account is who has a security identifier: DOMAIN\name, or "" where nobody has.
func (r *reader) account(sid string) (string, error) {
	i, err := r.get("Win32_SID", wsman.Pair{Name: "SID", Value: sid})
	if err != nil || i == nil || i.Text("AccountName") == "" {
		return "", err
	}
	return i.Text("ReferencedDomainName") + `\` + i.Text("AccountName"), nil
}

// Incomplete is why a reading of rights never is.
const Incomplete = "user rights that were set on the host itself, not by a policy, are told by no class that is read"

// gives are what groups of every host give, by the end of their identifiers S-1-5-32-
// ([MS-DTYP], section 2.4.2.4): the names differ by language.
var gives = map[string][]privilege.Entry{
	"544": {{Verb: privilege.VerbEverything, Text: "member of the local administrators"}},
	"547": {{Verb: "share folders", Text: "member of the local power users"}},
	"551": {{Verb: "read every file", Text: "member of the local backup operators"}, {Verb: "write every file", Text: "member of the local backup operators"}},
	"555": {{Verb: privilege.VerbSignIn, What: byRemoteDesktop, Text: "member of the local remote desktop users"}},
	"562": {{Verb: "launch components", Text: "member of the local users of distributed components"}},
	"573": {{Verb: "read event logs", Text: "member of the local readers of event logs"}},
	"578": {{Verb: privilege.VerbEverything, What: "virtual machines", Text: "member of the local administrators of virtual machines"}},
	"580": {{Verb: privilege.VerbSignIn, What: "by remote management", Text: "member of the local users of remote management"}},
}

// Verbs are those that rights on hosts have.
func Verbs() []string {
	out := []string{VerbStart, VerbStop, VerbChange, verbPermissions, verbOwn, verbDelete}
	add := func(verb string) {
		if !slices.Contains(out, verb) {
			out = append(out, verb)
		}
	}
	for _, r := range userRights {
		add(r.verb)
	}
	for _, end := range slices.Sorted(maps.Keys(gives)) {
		for _, e := range gives[end] {
			add(e.Verb)
		}
	}
	return out
}

// groupsAtOnce is how many groups one question is about: hosts refuse long ones.
const groupsAtOnce = 25

// mostMembers is how many members of groups are read.
const mostMembers = 50_000

// mostNames is how many identifiers and names a host is asked about; others stay as they are.
const mostNames = 5_000

// everyone is the identifier of whoever signs in at all.
const everyone = "S-1-1-0"

// reader gathers what one host shows.
type reader struct {
	Host
	system   connect.Target
	taker    connect.RightsTaker
	out      connect.Rights
	problems []connect.Unread
	ids      map[string]string         // of principals, by DOMAIN\name in small letters
	kinds    map[string]privilege.Kind // of principals, by their ids
	names    map[string]string         // of security identifiers that were looked up
	asked    int                       // how many names were asked about
	foreign  map[string]bool           // groups of a domain: who lies in them the host does not tell
}

func read(target connect.Target, host Host, emit func(connect.Batch) error) *reader {
	return &reader{Host: host, system: target, taker: connect.RightsTaker{Emit: emit}, ids: map[string]string{}, kinds: map[string]privilege.Kind{}, names: map[string]string{}, foreign: map[string]bool{}}
}

// LogOns is what a host tells of who may be logged on as a service.
type LogOns struct{ *reader }

// ReadLogOns reads it.
func ReadLogOns(target connect.Target, host Host) (*LogOns, error) {
	r := read(target, host, nil)
	for _, part := range []func() error{r.accounts, r.groups, r.userRights} {
		if err := part(); err != nil {
			return nil, err
		}
	}
	return &LogOns{r}, nil
}

// Refused says why the host will not log an account on as a service: because a policy gives
// that right to others, or takes it from the account. It is "" where the host will, or does
// not tell.
func (l *LogOns) Refused(account string) (string, error) {
	if lower := strings.ToLower(account); lower == "" || lower == "localsystem" || ofTheSystem(privilege.Principal{Name: lower}) {
		return "", nil // it needs no right
	}
	id, err := l.told(strings.Replace(account, `.\`, l.Name+`\`, 1))
	if err != nil {
		return "", err
	}
	m := privilege.NewModel(privilege.NewGraph(l.out.Principals, l.out.Memberships), l.out.Lists, nil)
	d := m.Decide(id, privilege.Question{Verb: privilege.VerbSignIn, What: privilege.AsService})
	if d.Allowed || !d.Alone {
		return "", nil
	}
	return "a policy of the domain does not let it log on as a service there", nil
}

// Read reads the rights on a host. Who may do what to services takes a question for each of
// them: it is asked where the whole is.
func Read(target connect.Target, host Host, request connect.RightsRequest, emit func(connect.Batch) error) (connect.RightsCoverage, error) {
	r := read(target, host, emit)
	services := r.services
	if !request.Whole {
		r.taker.Coverage.Kept = []string{servicesPrefix}
		services = func() error { return nil }
	}
	for _, read := range []func() error{r.accounts, r.groups, services, r.userRights} {
		if err := read(); err != nil {
			return r.taker.Coverage, err
		}
	}
	r.taker.Coverage.Whole = r.taker.Coverage.Why == ""
	r.missing("rights", Incomplete)
	return r.taker.Coverage, r.taker.Take(r.out, r.problems)
}

func (r *reader) missing(place, what string) {
	r.taker.Missing(&r.problems, connect.Unread{Stage: connect.StageRead, Place: place, What: what})
}

// note takes a principal in, known by how it is spelled, and returns its id.
func (r *reader) note(p privilege.Principal, spelled string) string {
	key := strings.ToLower(spelled)
	if id := r.ids[key]; id != "" {
		return id
	}
	r.ids[key] = p.ID
	if _, again := r.kinds[p.ID]; !again {
		r.kinds[p.ID] = p.Kind
		r.out.Principals = append(r.out.Principals, p)
	}
	return p.ID
}

// anybody are names of whoever signs in, as hosts in several languages have them; of the
// identifiers it is known anyhow.
var anybody = []string{"everyone", "jeder", "tout le monde", "todos", "authenticated users", "authentifizierte benutzer", "utilisateurs authentifi\u00e9s", "usuarios autentificados"}

// named is the principal of DOMAIN\name, of which the host knows no more than that.
func (r *reader) named(account string, kind privilege.Kind) string {
	if domain, name, found := strings.Cut(account, `\`); found && slices.ContainsFunc([]string{"BUILTIN", "."}, func(own string) bool { return strings.EqualFold(own, domain) }) {
		account = r.Name + `\` + name
	}
	if _, name, _ := strings.Cut(`\`+account, `\`); slices.Contains(anybody, strings.ToLower(name[strings.LastIndexByte(name, '\\')+1:])) {
		return r.note(privilege.Principal{ID: everyone, Kind: privilege.KindEveryone, Name: account}, account)
	}
	id := privilege.NamedPrefix + strings.ToLower(account)
	if kind == privilege.KindGroup && r.ids[strings.ToLower(account)] == "" {
		r.foreign[id] = true
	}
	return r.note(privilege.Principal{ID: id, Kind: kind, Name: account}, account)
}

// some are identifiers of a part of those who sign in.
var some = map[string]string{"S-1-5-2": "comes over the network", "S-1-5-4": "is signed in at the host", "S-1-5-6": "runs as a service"}

// trustee is the principal of a security identifier.
func (r *reader) trustee(sid string) (string, error) {
	if _, there := r.kinds[sid]; there {
		return sid, nil
	}
	if descriptor.Anybody(sid) || some[sid] != "" {
		return r.note(privilege.Principal{ID: everyone, Kind: privilege.KindEveryone, Name: "Everyone"}, "Everyone"), nil
	}
	if name := descriptor.WellKnown[sid]; name != "" {
		return r.note(privilege.Principal{ID: sid, Kind: privilege.KindUnknown, Name: name}, sid), nil
	}
	name, looked := r.names[sid]
	if !looked && len(r.names) < mostNames {
		var err error
		if name, err = r.account(sid); err != nil {
			return "", err
		}
		r.names[sid] = name
	}
	if name == "" {
		return r.note(privilege.Principal{ID: sid, Kind: privilege.KindUnknown, Name: sid}, sid), nil
	}
	return r.told(name)
}

// told is the principal of DOMAIN\name, of which the host is asked whether it is an account.
func (r *reader) told(account string) (string, error) {
	domain, name, found := strings.Cut(account, `\`)
	if !found || strings.EqualFold(domain, "BUILTIN") || domain == "." || r.ids[strings.ToLower(account)] != "" || ofTheSystem(privilege.Principal{Name: account}) {
		return r.named(account, privilege.KindUnknown), nil
	}
	if r.asked++; r.asked > mostNames {
		return r.named(account, privilege.KindUnknown), nil
	}
	is, err := r.get("Win32_UserAccount", wsman.Pair{Name: "Domain", Value: domain}, wsman.Pair{Name: "Name", Value: name})
	if err != nil && !one(err) {
		return "", err
	}
	if err == nil && is != nil {
		return r.named(account, privilege.KindAccount), nil
	}
	return r.named(account, privilege.KindUnknown), nil
}

func (r *reader) accounts() error {
	return r.Enumerate(spaceCIM, "Win32_UserAccount", "LocalAccount=TRUE", func(i *wsman.Instance) error {
		if sid := i.Text("SID"); sid != "" {
			r.note(privilege.Principal{ID: sid, Kind: privilege.KindAccount, Name: i.Text("Name")}, r.Name+`\`+i.Text("Name"))
		}
		return nil
	})
}

func (r *reader) groups() error {
	var groups []string
	if err := r.Enumerate(spaceCIM, "Win32_Group", "LocalAccount=TRUE", func(i *wsman.Instance) error {
		sid, group := i.Text("SID"), i.Text("Name")
		if sid == "" || group == "" {
			r.missing("Win32_Group", fmt.Sprintf("a local group %q without an identifier", group))
			return nil
		}
		groups = append(groups, group)
		r.note(privilege.Principal{ID: sid, Kind: privilege.KindGroup, Name: group}, r.Name+`\`+group)
		l := privilege.List{Key: "group:" + sid, Decides: privilege.DecidesAny, Objects: r.whole()}
		end, builtIn := strings.CutPrefix(sid, "S-1-5-32-")
		for _, e := range gives[end] {
			if builtIn {
				e.To, e.Source = sid, group
				l.Entries = append(l.Entries, e)
			}
		}
		if len(l.Entries) > 0 {
			r.out.Lists = append(r.out.Lists, l)
		}
		return nil
	}); err != nil {
		return err
	}
	for some := range slices.Chunk(groups, groupsAtOnce) {
		conditions := make([]string, len(some))
		for i, group := range some {
			conditions[i] = "GroupComponent=" + wsman.Quote(fmt.Sprintf(`Win32_Group.Domain="%s",Name="%s"`, r.Name, group))
		}
		if err := r.Enumerate(spaceCIM, "Win32_GroupUser", strings.Join(conditions, " or "), r.member); err != nil {
			return err
		}
	}
	if len(r.out.Memberships) >= mostMembers {
		r.missing("Win32_GroupUser", fmt.Sprintf("there are more than %d members", mostMembers))
	}
	return nil
}

func (r *reader) member(i *wsman.Instance) error {
	group, ok := i.Reference("GroupComponent")
	part, found := i.Reference("PartComponent")
	if !ok || !found || !strings.EqualFold(group.Selector("Domain"), r.Name) || len(r.out.Memberships) >= mostMembers {
		return nil
	}
	kind := privilege.KindAccount // of its domain; what a class says of a group it is, too
	if strings.HasSuffix(strings.ToLower(part.URI), "win32_group") {
		kind = privilege.KindGroup
	}
	member := r.named(part.Selector("Domain")+`\`+part.Selector("Name"), kind)
	r.out.Memberships = append(r.out.Memberships, privilege.Membership{Member: member, Group: r.ids[strings.ToLower(r.Name+`\`+group.Selector("Name"))]})
	return nil
}

// whole is the object of rights that are about no one thing of the host.
func (r *reader) whole() []privilege.Object {
	return []privilege.Object{{Kind: privilege.ObjectSystem, Name: r.system.Name}}
}

// one reports whether an error is of one question only, which is told, and not of the
// connection.
func one(err error) bool {
	var failure *connect.Failure
	var fault *wsman.Fault
	return !errors.As(err, &failure) || errors.As(err, &fault)
}
