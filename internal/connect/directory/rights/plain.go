package rights

import (
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/privilege"
)

// plain takes an entry of a directory with the schema of RFC 4519 and RFC 2307. Groups name
// their members, which may be read later: the names are kept until all were.
func (r *Reader) plain(e *ldap.Entry) {
	id, name := e.GetAttributeValue("entryUUID"), e.GetAttributeValue("uid")
	dn := values.Fold(e.DN)
	if id == "" || r.byDN[dn] != "" {
		return
	}
	group := slices.ContainsFunc(e.GetAttributeValues("objectClass"), func(c string) bool {
		return strings.EqualFold(c, "groupOfNames") || strings.EqualFold(c, "groupOfUniqueNames") || strings.EqualFold(c, "posixGroup")
	})
	if name == "" {
		name = e.GetAttributeValue("cn")
	}
	r.byDN[dn] = id
	o := object{id: id, name: name, kind: privilege.KindAccount, primary: e.GetAttributeValue("gidNumber")}
	if group {
		o.kind, o.primary = privilege.KindGroup, ""
		if slices.ContainsFunc(e.GetAttributeValues("objectClass"), func(c string) bool { return strings.EqualFold(c, "groupOfNames") }) {
			o.dn = e.DN // others name their members in another way
		}
		if number := e.GetAttributeValue("gidNumber"); number != "" {
			r.byNumber[number] = id
		}
		for _, attribute := range []string{"member", "uniqueMember"} {
			for _, member := range e.GetAttributeValues(attribute) {
				member, _, _ = strings.Cut(member, "#'") // RFC 4517, section 3.3.21
				member = values.Fold(member)
				r.members[member] = append(r.members[member], dn)
			}
		}
		for _, member := range e.GetAttributeValues("memberUid") {
			r.byUID[member] = append(r.byUID[member], dn)
		}
	}
	r.objects = append(r.objects, o)
	r.dnOf = append(r.dnOf, dn)
}

// lieIn gives objects the groups that name them.
func (r *Reader) lieIn() {
	for i := range r.objects {
		o := &r.objects[i]
		o.groups = append(o.groups, r.members[r.dnOf[i]]...)
		if o.kind == privilege.KindAccount {
			for _, group := range r.byUID[o.name] {
				if !slices.Contains(o.groups, group) {
					o.groups = append(o.groups, group)
				}
			}
		}
	}
}
