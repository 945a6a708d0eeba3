package managing

import (
	"encoding/base64"
	"errors"
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

// Changer is a Searcher that changes entries.
type Changer interface {
	Searcher
	Add(request *ldap.AddRequest) error
	Del(request *ldap.DelRequest) error
	Modify(request *ldap.ModifyRequest) error
}

// Refused is that a change cannot be made as things stand: nothing was tried.
type Refused struct{ Words, Next string }

func (r *Refused) Error() string { return r.Words }

// Standing is how an account stands for a change.
type Standing struct {
	There  bool // it is as the change wants it
	Words  string
	Former string   // of permit and forbid: who might ask for the password
	Also   []string // what a person should know besides
}

// Stands looks how things stand for a change, and refuses one that cannot be made.
func Stands(conn Searcher, now time.Time, change managed.AccountChange) (Standing, error) {
	r, err := read(conn, now, managed.Ask{Container: change.Container, Account: change.DN})
	if err != nil {
		return Standing{}, err
	}
	group, err := r.group(change.Group)
	if err != nil {
		return Standing{}, err
	}
	if change.Act != managed.Create {
		return r.permits(change, group)
	}
	return r.creates(change, group)
}

// group finds the one that is to be permitted; nil where none is named.
func (r *reader) group(dn string) (*ldap.Entry, error) {
	if dn == "" {
		return nil, nil //nolint:nilnil // none is named
	}
	e, words, err := r.entry(dn, "objectClass", "objectSid", "sAMAccountName")
	switch {
	case err != nil:
		return nil, err
	case e == nil:
		return nil, &Refused{"the group " + dn + " cannot be seen: " + words, "name a group of this directory"}
	case !has(e, "objectClass", "group"):
		return nil, &Refused{dn + " is no group", "name a group whose members are hosts"}
	case values.SIDText(e.GetRawAttributeValue("objectSid")) == "":
		return nil, &Refused{"the directory does not show the identifier of " + dn, "let the steward read objectSid"}
	}
	return e, nil
}

// creates: nothing is there yet, and nothing else has one of its names.
func (r *reader) creates(change managed.AccountChange, group *ldap.Entry) (Standing, error) {
	if r.seen.Account != nil {
		if differs := r.differs(change, group); differs != "" {
			return Standing{}, &Refused{change.Name + " is there already, and is another one: " + differs, "choose another name, or permit a group for the one that is there"}
		}
		return Standing{There: true, Words: "it is there, as it is wanted"}, nil
	}
	var also []string
	_, early := r.seen.Early()
	for _, line := range managed.Prerequisites(r.seen) {
		switch {
		case line.Result == managed.Met:
		case line.Result == managed.Missing && line.What == managed.WhatControllers:
			also = append(also, line.Words+": hosts cannot fetch its password from there")
		case line.Result == managed.Missing && line.What == managed.WhatRootKey && early && change.Early != "":
			also = append(also, line.Words+"; it is created all the same: "+change.Early)
		case line.Result == managed.Missing:
			next := line.Next
			if line.What == managed.WhatRootKey && early {
				next += ", or say why not with --early"
			}
			return Standing{}, &Refused{line.What + ": " + line.Words, next}
		default:
			also = append(also, line.What+": "+line.Words)
		}
	}
	if e, _, err := r.entry(change.DN, "objectClass"); err != nil || e != nil {
		if err != nil {
			return Standing{}, err
		}
		return Standing{}, &Refused{"something else stands at " + change.DN, "choose another name"}
	}
	for _, one := range append([][2]string{{"sAMAccountName", change.Name}, {"dNSHostName", change.DNSName}}, services(change)...) {
		found, words, err := r.entries(r.base, ldap.ScopeWholeSubtree, "("+one[0]+"="+ldap.EscapeFilter(one[1])+")", "1.1")
		if err != nil {
			return Standing{}, err
		}
		if words != "" {
			return Standing{}, &Refused{"whether " + one[1] + " is taken cannot be seen: " + words, "let the steward read " + r.base}
		}
		if len(found) > 0 {
			return Standing{}, &Refused{fmt.Sprintf("%s has %s %s already", found[0].DN, attributeWords[one[0]], one[1]), "two accounts with the same one break sign-in to both: choose another, or take it from there first"}
		}
	}
	return Standing{Words: "it is not there, and nothing has one of its names", Also: also}, nil
}

var attributeWords = map[string]string{"sAMAccountName": "the name", "dNSHostName": "the DNS name", "servicePrincipalName": "the service principal name"}

func services(change managed.AccountChange) (out [][2]string) {
	for _, s := range change.Services {
		out = append(out, [2]string{"servicePrincipalName", s})
	}
	return out
}

// differs says in what an account that is there is not what a change creates; "" in nothing.
func (r *reader) differs(change managed.AccountChange, group *ldap.Entry) string {
	a := r.seen.Account
	fold := func(list []string) []string {
		out := make([]string, len(list))
		for i, s := range list {
			out[i] = strings.ToLower(s)
		}
		slices.Sort(out)
		return out
	}
	var permitted []string
	for _, p := range a.Permitted {
		permitted = append(permitted, p.SID)
	}
	var wanted []string
	if group != nil {
		wanted = []string{values.SIDText(group.GetRawAttributeValue("objectSid"))}
	}
	switch {
	case a.Sort != managed.SortGroup:
		return "it is of another kind"
	case !strings.EqualFold(a.Name, change.Name):
		return "its name is " + a.Name
	case !strings.EqualFold(a.DNSName, change.DNSName):
		return "its DNS name is " + a.DNSName
	case a.Interval != change.Interval:
		return fmt.Sprintf("its password changes every %d days", a.Interval)
	case a.Encryption != change.Encryption:
		return "its encryption types are " + a.Encryption.Words()
	case a.Enabled != estate.Yes:
		return "it is disabled"
	case !slices.Equal(fold(a.Services), fold(change.Services)):
		return "its service principal names are " + strings.Join(a.Services, ", ")
	case !slices.Equal(permitted, wanted):
		return "others may ask for its password"
	}
	return ""
}

// permits: whether the group may ask for the password, or may not, as the change wants it.
func (r *reader) permits(change managed.AccountChange, group *ldap.Entry) (Standing, error) {
	a := r.seen.Account
	if a == nil {
		return Standing{}, &Refused{"there is no managed account at " + change.DN, "run a survey of the directory"}
	}
	if a.Sort != managed.SortGroup {
		return Standing{}, &Refused{a.Name + " is of a kind that no group is permitted for", "create one for the hosts of a group"}
	}
	raw, _, err := r.permission(change.DN)
	if err != nil {
		return Standing{}, err
	}
	sid := values.SIDText(group.GetRawAttributeValue("objectSid"))
	var names []string
	for _, p := range a.Permitted {
		names = append(names, p.Name+" ("+p.Kind+")")
	}
	out := Standing{Former: base64.StdEncoding.EncodeToString(raw), Words: "nobody is shown who may ask for its password"}
	if len(names) > 0 {
		out.Words = "its password may be asked for by " + strings.Join(names, ", ")
	}
	out.There = slices.ContainsFunc(a.Permitted, func(p managed.Entitled) bool { return p.SID == sid }) == (change.Act == managed.Permit)
	if _, err := turned(raw, change.Act, sid); err != nil {
		return out, err
	}
	return out, nil
}

// permission is the descriptor that says who may ask for a password; none where nobody may.
func (r *reader) permission(dn string) (raw []byte, words string, err error) {
	e, words, err := r.entry(dn, "msDS-GroupMSAMembership")
	if err != nil || e == nil {
		return nil, words, err
	}
	return e.GetRawAttributeValue("msDS-GroupMSAMembership"), "", nil
}

// administrators own what is written here (S-1-5-32-544).
var administrators = descriptor.SID{Authority: 5, Sub: []uint32{32, 544}}

// entries are those of a permission, and who owns it. One with entries that are not understood is
// not written anew: what they say would be lost.
func entries(raw []byte) (owner descriptor.SID, out []descriptor.Entry, err error) {
	if len(raw) == 0 {
		return administrators, nil, nil
	}
	d, err := descriptor.Parse(raw)
	if err != nil || d.Rules == nil || d.Audited != nil {
		return owner, nil, &Refused{"who may ask for its password is written in a way that is not understood", "change who may with the directory's own tools"}
	}
	for _, e := range d.Rules.Entries {
		if !e.Known() || e.Conditional() || e.Object != nil || e.Inherits != nil {
			return owner, nil, &Refused{"who may ask for its password has entries that are not understood", "change who may with the directory's own tools"}
		}
	}
	if d.Owner == nil {
		return administrators, d.Rules.Entries, nil
	}
	return *d.Owner, d.Rules.Entries, nil
}

func lets(e descriptor.Entry, sid string) bool {
	return !e.Denies() && e.Trustee.String() == sid && e.Mask&descriptor.ReadProperty != 0
}

// turned is a permission after a change: with one more who may ask, or without one.
func turned(raw []byte, act managed.Act, sid string) ([]byte, error) {
	trustee, err := descriptor.ParseSID(sid)
	if err != nil {
		return nil, err
	}
	owner, list, err := entries(raw)
	if err != nil {
		return nil, err
	}
	has := slices.ContainsFunc(list, func(e descriptor.Entry) bool { return lets(e, sid) })
	switch {
	case has == (act != managed.Forbid):
		return raw, nil
	case has:
		return descriptor.Build(owner, slices.DeleteFunc(slices.Clone(list), func(e descriptor.Entry) bool { return lets(e, sid) })...), nil
	}
	return descriptor.Build(owner, append(slices.Clone(list), descriptor.Entry{Mask: descriptor.ReadProperty, Trustee: trustee})...), nil
}

// same: two permissions let the same ask, in the same order. A directory may write them in another form.
func same(a, b []byte) bool {
	read := func(raw []byte) (out []string) {
		d, err := descriptor.Parse(raw)
		if err != nil || d.Rules == nil {
			return nil
		}
		for _, e := range d.Rules.Entries {
			out = append(out, e.String())
		}
		return out
	}
	return slices.Equal(a, b) || len(a) > 0 && len(b) > 0 && slices.Equal(read(a), read(b))
}

// Make makes one change, and only that; with back it takes back what it made. What is so already
// is no failure, and what somebody else wrote since is not overwritten.
func Make(conn Changer, now time.Time, change managed.AccountChange, back bool) error {
	r := &reader{conn: conn}
	if change.Act != managed.Create {
		return r.makePermit(conn, change, back)
	}
	if back {
		return remove(conn, now, change)
	}
	group, err := r.group(change.Group)
	if err != nil {
		return err
	}
	add := ldap.NewAddRequest(change.DN, nil)
	add.Attribute("objectClass", []string{Class})
	add.Attribute("sAMAccountName", []string{change.Name})
	add.Attribute("dNSHostName", []string{change.DNSName})
	add.Attribute("userAccountControl", []string{"4096"}) // of a trusted machine
	add.Attribute("msDS-ManagedPasswordInterval", []string{strconv.Itoa(change.Interval)})
	add.Attribute("msDS-SupportedEncryptionTypes", []string{strconv.Itoa(int(change.Encryption))})
	if len(change.Services) > 0 {
		add.Attribute("servicePrincipalName", change.Services)
	}
	if group != nil {
		permission, err := turned(nil, managed.Permit, values.SIDText(group.GetRawAttributeValue("objectSid")))
		if err != nil {
			return err
		}
		add.Attribute("msDS-GroupMSAMembership", []string{string(permission)})
	}
	err = conn.Add(add)
	if ldap.IsErrorWithCode(err, ldap.LDAPResultEntryAlreadyExists) {
		if s, asked := Stands(conn, now, change); asked == nil && s.There {
			return nil
		}
	}
	return err
}

// remove deletes an account that was created here, as long as it is what was created.
func remove(conn Changer, now time.Time, change managed.AccountChange) error {
	r, err := read(conn, now, managed.Ask{Container: change.Container, Account: change.DN})
	if err != nil {
		return err
	}
	if r.seen.Account == nil {
		e, _, err := r.entry(change.DN, "objectClass")
		if err == nil && e != nil {
			err = &Refused{"what stands at " + change.DN + " is no managed account", "somebody else put it there: look at it, and decide by hand"}
		}
		return err
	}
	group, err := r.group(change.Group)
	if err != nil {
		return err
	}
	if differs := r.differs(change, group); differs != "" {
		return &Refused{change.Name + " is not as it was created: " + differs, "somebody else changed it since: look at it, and decide by hand"}
	}
	err = conn.Del(ldap.NewDelRequest(change.DN, nil))
	if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
		return nil
	}
	return err
}

// makePermit writes who may ask, in the place of what was read and of nothing else.
func (r *reader) makePermit(conn Changer, change managed.AccountChange, back bool) error {
	group, err := r.group(change.Group)
	if err != nil {
		return err
	}
	raw, words, err := r.permission(change.DN)
	if err != nil {
		return err
	}
	if words != "" {
		return &Refused{change.DN + " cannot be seen: " + words, "run a survey of the directory"}
	}
	sid := values.SIDText(group.GetRawAttributeValue("objectSid"))
	var will []byte
	if !back {
		if will, err = turned(raw, change.Act, sid); err != nil {
			return err
		}
	} else {
		if will, err = base64.StdEncoding.DecodeString(change.Former); err != nil {
			return errors.New("how it stood before cannot be read")
		}
		made, err := turned(will, change.Act, sid)
		if err != nil {
			return err
		}
		if !same(made, raw) && !same(will, raw) {
			return &Refused{"who may ask for the password of " + change.Name + " is not as it was left", "somebody else changed it since: look at it, and decide by hand"}
		}
	}
	if same(will, raw) {
		return nil
	}
	modify := ldap.NewModifyRequest(change.DN, nil)
	if len(raw) > 0 { // deleted by its value: if somebody was quicker, nothing is changed
		modify.Delete("msDS-GroupMSAMembership", []string{string(raw)})
	}
	if len(will) > 0 {
		modify.Add("msDS-GroupMSAMembership", []string{string(will)})
	}
	return conn.Modify(modify)
}
