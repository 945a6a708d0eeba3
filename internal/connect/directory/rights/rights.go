// Package rights reads who may do what in a directory: who lies in which group, and, of
// directories with the Windows-domain schema, what the security descriptors of accounts,
// groups, units and the domain give to whom. Objects whose descriptors say the same share
// one list.
package rights

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/descriptor"
)

// AttributeDescriptor is that of an object's security descriptor.
const AttributeDescriptor = "nTSecurityDescriptor"

const (
	// what is neither a group nor an account
	restFilter    = "(|(objectClass=organizationalUnit)(objectClass=container)(objectClass=builtinDomain)(objectClass=domainDNS)(objectClass=domain)(objectClass=foreignSecurityPrincipal))"
	windowsFilter = "(|(objectClass=user)(objectClass=group)(objectClass=organizationalUnit)(objectClass=container)(objectClass=builtinDomain)(objectClass=domainDNS)(objectClass=foreignSecurityPrincipal))"
	plainFilter   = "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup)(userPassword=*)(objectClass=posixAccount)(objectClass=inetOrgPerson)(objectClass=account)(objectClass=simpleSecurityObject)(objectClass=organizationalRole))"
)

// Attributes that entries are taken by: of everything that is read here, and those that
// groups and accounts which are read for another reason must have besides.
var (
	GroupAttributes, AccountAttributes           = []string{"objectClass", "objectGUID", "sAMAccountName", "primaryGroupID", AttributeDescriptor}, []string{AttributeDescriptor, "msDS-GroupMSAMembership"}
	PlainGroupAttributes, PlainAccountAttributes = []string{"objectClass", "entryUUID", "uid"}, []string(nil)

	windowsAttributes = []string{"objectClass", "objectGUID", "objectSid", "sAMAccountName", "memberOf", "primaryGroupID", AttributeDescriptor, "msDS-GroupMSAMembership"}
	plainAttributes   = []string{"objectClass", "entryUUID", "uid", "cn", "member", "uniqueMember", "memberUid", "gidNumber"}
)

// OwnerAndRules asks for the owner and the access list of descriptors, without what is
// audited, which needs a right of its own ([MS-ADTS], section 3.1.1.3.4.1.11).
var OwnerAndRules = ldap.NewControlString("1.2.840.113556.1.4.801", true, "\x30\x03\x02\x01\x05")

// Search reads a subtree page by page.
type Search func(ctx context.Context, base, filter string, attributes []string, each func([]*ldap.Entry) error) error

// Directory is what is read.
type Directory struct {
	Name    string
	Windows bool
	Bases   []string
	Closed  map[string]string // bases that may not be read, and why
	Domain  string            // SID of the domain
	// Configuration is the naming context that tells which features there are; "" for not known.
	Configuration string
	Search        Search
}

// object is an entry that may be a principal.
type object struct {
	id, name string
	dn       string // of groups
	kind     privilege.Kind
	groups   []string // folded DNs, or names
	primary  string   // SID or number of the primary group
}

// Reader makes rights of entries.
type Reader struct {
	Directory
	taker    connect.RightsTaker
	problems []connect.Unread
	objects  []object
	dnOf     []string          // folded DNs of objects, where groups name their members
	byDN     map[string]string // ids
	bySID    map[string]string
	byNumber map[string]string              // ids of groups by their number
	byUID    map[string][]string            // groups that name a member by its user name
	members  map[string][]string            // ids of groups by a member's folded DN
	rules    map[string]*privilege.List     // by what they say
	strange  map[string]privilege.Principal // named in rules, and not there
	// plainLists are those of access rules; nil, and not shown, where nobody told them.
	plainLists []privilege.List
	shown      bool
	until      map[string]time.Time // when memberships end by themselves, by member and group
	unseen     int                  // objects whose descriptor is not shown
}

// New makes one that hands on to emit.
func New(d Directory, emit func(connect.Batch) error) *Reader {
	return &Reader{
		Directory: d, taker: connect.RightsTaker{Emit: emit}, byDN: map[string]string{}, bySID: map[string]string{}, byNumber: map[string]string{}, byUID: map[string][]string{},
		members: map[string][]string{}, until: map[string]time.Time{}, rules: map[string]*privilege.List{}, strange: map[string]privilege.Principal{},
	}
}

// Take takes entries, of groups and accounts in any order.
func (r *Reader) Take(entries []*ldap.Entry) {
	for _, e := range entries {
		if r.Windows {
			r.windows(e)
		} else {
			r.plain(e)
		}
	}
}

// Read reads all of it by itself.
func Read(ctx context.Context, d Directory, emit func(connect.Batch) error) (connect.RightsCoverage, error) {
	r := New(d, emit)
	filter, attributes := windowsFilter, windowsAttributes
	if !d.Windows {
		filter, attributes = plainFilter, plainAttributes
	}
	if err := r.search(ctx, filter, attributes); err != nil {
		return r.taker.Coverage, err
	}
	if !d.Windows {
		r.readRules(ctx)
	}
	return r.finish(ctx)
}

// readRules reads access rules, where they are shown.
func (r *Reader) readRules(ctx context.Context) {
	var databases []database
	if databases, r.shown = r.configured(ctx); r.shown {
		r.accessRules(databases)
	}
}

// Finish reads what no account and no group is, and hands all on.
func (r *Reader) Finish(ctx context.Context) (connect.RightsCoverage, error) {
	if r.Windows {
		if err := r.search(ctx, restFilter, windowsAttributes); err != nil {
			return r.taker.Coverage, err
		}
	} else {
		r.readRules(ctx)
	}
	return r.finish(ctx)
}

func (r *Reader) search(ctx context.Context, filter string, attributes []string) error {
	for _, base := range r.Bases {
		if words := r.Closed[base]; words != "" {
			r.taker.Missing(&r.problems, connect.Unread{Stage: connect.StageRead, Place: base, What: "this naming context cannot be read: " + words})
			continue
		}
		if err := r.Search(ctx, base, filter, attributes, func(entries []*ldap.Entry) error {
			r.Take(entries)
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

func (r *Reader) finish(ctx context.Context) (connect.RightsCoverage, error) {
	if err := r.timed(ctx); err != nil {
		return r.taker.Coverage, err
	}
	if !r.Windows {
		r.lieIn()
		if !r.shown {
			r.taker.Missing(&r.problems, connect.Unread{Stage: connect.StageRead, Place: "access rules", What: "who may write what is not shown to the steward, memberships are", Next: "let it read olcAccess, olcSuffix, olcDatabase and olcRootDN below cn=config: 'moss system prepare' says how"})
		}
	}
	if r.unseen > 0 {
		r.taker.Missing(&r.problems, connect.Unread{Stage: connect.StageRead, Place: "security descriptors", What: strconv.Itoa(r.unseen) + " of what was read are not shown to the steward", Next: "let it read permissions there"})
	}
	err := r.end()
	return r.taker.Coverage, err
}

// windows takes an entry of a directory with the Windows-domain schema.
func (r *Reader) windows(e *ldap.Entry) {
	classes := e.GetAttributeValues("objectClass")
	has := func(class string) bool {
		return slices.ContainsFunc(classes, func(c string) bool { return strings.EqualFold(c, class) })
	}
	sid := values.SIDText(e.GetRawAttributeValue("objectSid"))
	id := values.GUIDText(e.GetRawAttributeValue("objectGUID"))
	name := e.GetAttributeValue("sAMAccountName")
	o := object{id: id, name: name, primary: e.GetAttributeValue("primaryGroupID")}
	class, kind := descriptor.ClassUnit, "unit"
	switch {
	case has("foreignSecurityPrincipal"):
		o.id, o.kind, o.name = "sid:"+sid, privilege.KindUnknown, sid
		if known := descriptor.WellKnown[sid]; known != "" {
			o.name = known
		}
		if descriptor.Anybody(sid) {
			o.kind = privilege.KindEveryone
		}
		class = ""
	case has("group"):
		o.kind, class, kind = privilege.KindGroup, descriptor.ClassGroup, "group"
	case has("user"):
		o.kind, class, kind = privilege.KindAccount, descriptor.ClassAccount, "account"
	case has("domainDNS"):
		class, kind, name = descriptor.ClassDomain, "domain", e.DN
	default:
		name = e.DN
	}
	if o.kind != "" && o.id != "" {
		if r.byDN[values.Fold(e.DN)] != "" {
			return // seen from a base above
		}
		if o.kind == privilege.KindGroup {
			o.dn = e.DN
		}
		for _, group := range e.GetAttributeValues("memberOf") {
			o.groups = append(o.groups, values.Fold(group))
		}
		r.objects = append(r.objects, o)
		r.byDN[values.Fold(e.DN)] = o.id
		if sid != "" {
			r.bySID[sid] = o.id
		}
	}
	if class == "" {
		return
	}
	if raw := e.GetRawAttributeValue("msDS-GroupMSAMembership"); len(raw) > 0 {
		r.managed(name, id, raw)
	}
	raw := e.GetRawAttributeValue(AttributeDescriptor)
	if len(raw) == 0 {
		r.unseen++
		return
	}
	r.describe(raw, class, privilege.Object{Kind: kind, Name: name}, e.DN)
}

// describe adds an object to the list of those whose descriptors say the same.
func (r *Reader) describe(raw []byte, class descriptor.Class, o privilege.Object, dn string) {
	sum := sha256.Sum256(append([]byte(class+"\x00"), raw...))
	key := privilege.SharedKey + hex.EncodeToString(sum[:12])
	l := r.rules[key]
	if l == nil {
		d, err := descriptor.Parse(raw)
		if err != nil {
			r.taker.Missing(&r.problems, connect.Unread{Stage: connect.StageRead, Place: dn, What: "its security descriptor is not understood: " + err.Error()})
			return
		}
		l = &privilege.List{Key: key, Decides: privilege.DecidesFirst, Entries: r.entries(d, class)}
		r.rules[key] = l
	}
	l.Objects = append(l.Objects, o)
}

// entries makes them of a descriptor, in its order: the first that is about something
// decides ([MS-DTYP], section 2.5.3.2).
func (r *Reader) entries(d descriptor.Descriptor, class descriptor.Class) []privilege.Entry {
	var out []privilege.Entry
	if d.Rules == nil {
		return []privilege.Entry{{To: r.principal("S-1-1-0"), Verb: privilege.VerbEverything, Text: "there is no access list"}}
	}
	ownerRights := slices.ContainsFunc(d.Rules.Entries, func(e descriptor.Entry) bool {
		return e.Trustee.String() == "S-1-3-4" && e.Flags&descriptor.InheritOnly == 0
	})
	if d.Owner != nil && !ownerRights { // whoever owns it may always change its rules
		out = append(out, privilege.Entry{To: r.principal(d.Owner.String()), Verb: descriptor.VerbChangeRules, Text: "O:" + d.Owner.String()})
	}
	for _, e := range d.Rules.Entries {
		if !e.Known() {
			out = append(out, privilege.Entry{To: r.principal("S-1-1-0"), Verb: privilege.VerbEverything, Unsure: "an entry of a kind that is not known here: " + e.String(), Text: e.String()})
			continue
		}
		sid := e.Trustee.String()
		if sid == "S-1-5-10" || sid == "S-1-3-0" { // the object itself; whoever makes one below
			continue
		}
		if sid == "S-1-3-4" && d.Owner != nil {
			sid = d.Owner.String()
		}
		for _, verb := range e.VerbsOf(class) {
			given := privilege.Entry{To: r.principal(sid), Verb: verb, Deny: e.Denies(), Text: e.String()}
			if e.Flags&descriptor.Inherited != 0 {
				given.Source = "inherited"
			}
			if e.Conditional() || e.Type == 0x09 || e.Type == 0x0A || e.Type == 0x0B || e.Type == 0x0C {
				given.Unsure = "it counts under a condition"
			}
			out = append(out, given)
		}
	}
	return out
}

// managed reads who may read the password of a managed account.
func (r *Reader) managed(name, id string, raw []byte) {
	d, err := descriptor.Parse(raw)
	if err != nil || d.Rules == nil {
		return
	}
	l := &privilege.List{Key: "managed:" + id, Decides: privilege.DecidesFirst, Objects: []privilege.Object{{Kind: "account", Name: name}}}
	for _, e := range d.Rules.Entries {
		if e.Known() && e.Mask&descriptor.ReadProperty != 0 || e.Mask&descriptor.GenericAll != 0 {
			l.Entries = append(l.Entries, privilege.Entry{To: r.principal(e.Trustee.String()), Verb: descriptor.VerbReadManaged, Deny: e.Denies(), Text: e.String(), Source: "msDS-GroupMSAMembership"})
		}
	}
	r.rules[l.Key] = l
}

// principal is the one of a SID. Which entry has it is known once all were read: until then
// the SID stands for it.
func (r *Reader) principal(sid string) string { return "sid:" + sid }

// resolve gives entries the ids of the principals that their SIDs are of.
func (r *Reader) resolve(id string) string {
	sid := strings.TrimPrefix(id, "sid:")
	if known := r.bySID[sid]; known != "" {
		return known
	}
	if _, there := r.strange[id]; !there {
		p := privilege.Principal{ID: id, Kind: privilege.KindUnknown, Name: sid}
		if name := descriptor.WellKnown[sid]; name != "" {
			p.Name = name
		}
		if descriptor.Anybody(sid) {
			p.Kind = privilege.KindEveryone
		}
		r.strange[id] = p
	}
	return id
}

// principalsAtOnce is how many of them one batch has.
const principalsAtOnce = 5000

// end hands all on.
func (r *Reader) end() error {
	lists := make([]privilege.List, 0, len(r.rules))
	for _, l := range r.rules {
		for i := range l.Entries {
			l.Entries[i].To = r.resolve(l.Entries[i].To)
		}
		lists = append(lists, *l)
	}
	lists = append(lists, r.plainLists...)
	named := map[string]bool{}
	for _, l := range lists {
		for _, e := range l.Entries {
			named[e.To] = true
		}
	}
	for part := range slices.Chunk(r.objects, principalsAtOnce) {
		var out connect.Rights
		for _, o := range part {
			lies := r.memberships(o)
			if o.kind == privilege.KindAccount && len(lies) == 0 && !named[o.id] {
				continue // it has what everyone has: of a hundred thousand such nothing has to be kept
			}
			out.Principals = append(out.Principals, privilege.Principal{ID: o.id, Kind: o.kind, Name: o.name, DN: o.dn})
			out.Memberships = append(out.Memberships, lies...)
		}
		if err := r.taker.Take(out, nil); err != nil {
			return err
		}
	}
	var rest connect.Rights
	for _, p := range r.strange {
		rest.Principals = append(rest.Principals, p)
	}
	slices.SortFunc(rest.Principals, func(a, b privilege.Principal) int { return strings.Compare(a.ID, b.ID) })
	slices.SortFunc(lists, func(a, b privilege.List) int { return strings.Compare(a.Key, b.Key) })
	rest.Lists = lists
	return r.taker.Take(rest, r.problems)
}

// memberships of one object: those that it is listed in, and its primary group.
func (r *Reader) memberships(o object) []privilege.Membership {
	var out []privilege.Membership
	for _, group := range o.groups {
		id := r.byDN[group]
		if id == "" {
			id = "dn:" + group // of another domain, or not shown
		}
		out = append(out, privilege.Membership{Member: o.id, Group: id, Until: r.until[o.id+"\x00"+group]})
	}
	primary := r.byNumber[o.primary]
	if r.Windows {
		primary = r.bySID[r.Domain+"-"+o.primary]
	}
	if o.primary != "" && primary != "" {
		out = append(out, privilege.Membership{Member: o.id, Group: primary, How: "primary group"})
	}
	return out
}
