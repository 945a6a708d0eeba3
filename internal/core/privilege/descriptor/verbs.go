package descriptor

import "strings"

// Class of an object, as far as it matters for what may be done to it.
type Class string

// Classes.
const (
	ClassAccount Class = "account"
	ClassGroup   Class = "group"
	ClassUnit    Class = "unit"   // an organizational unit, or another container
	ClassDomain  Class = "domain" // the top of a domain
)

// Verbs of directories. An entry that gives full control has the verb everything.
const (
	VerbResetPassword    = "reset password"
	VerbWriteMembers     = "write members"
	VerbAddItself        = "add itself"
	VerbReplicateSecrets = "replicate secrets"
	VerbWriteNames       = "write service names"
	VerbWriteControl     = "write account control"
	VerbWriteKeys        = "write key credentials"
	VerbWriteDelegation  = "write delegation"
	VerbCreateAccounts   = "create accounts"
	VerbLinkPolicies     = "link policies"
	VerbChangeRules      = "change permissions"
	VerbTakeOwnership    = "take ownership"
	VerbDelete           = "delete"
	VerbEverything       = "everything"
	VerbReadManaged      = "read managed password"
)

// Verbs are all of them.
func Verbs() []string {
	return []string{
		VerbResetPassword, VerbWriteMembers, VerbAddItself, VerbReplicateSecrets, VerbWriteNames, VerbWriteControl, VerbWriteKeys, VerbWriteDelegation, VerbCreateAccounts, VerbLinkPolicies,
		VerbChangeRules, VerbTakeOwnership, VerbDelete, VerbReadManaged, VerbEverything,
	}
}

// needed is what an entry must give for a verb: bits of its mask and, where it is about one
// right, property or class only, one of these ([MS-ADTS], sections 5.1.3.2.1 and 3.1.1.2.3.3;
// the identifiers are those of the schema, [MS-ADA1] to [MS-ADA3] and [MS-ADSC]).
type needed struct {
	verb    string
	mask    uint32
	objects []string
}

var (
	anyClass = []needed{{VerbChangeRules, WriteDACL, nil}, {VerbTakeOwnership, WriteOwner, nil}, {VerbDelete, Delete, nil}}
	byClass  = map[Class][]needed{
		ClassAccount: {
			{VerbResetPassword, ControlAccess, []string{"00299570-246d-11d0-a768-00aa006e0529"}},
			{VerbWriteNames, WriteProperty, []string{"f3a64788-5306-11d1-a9c5-0000f80367c1"}},
			// by itself, or as one of the account restrictions
			{VerbWriteControl, WriteProperty, []string{"bf967a68-0de6-11d0-a285-00aa003049e2", "4c164200-20c0-11d0-a768-00aa006e0529"}},
			{VerbWriteKeys, WriteProperty, []string{"5b47d60f-6090-40b2-9f37-2a4de88f3063"}},
			{VerbWriteDelegation, WriteProperty, []string{"3f78c3e5-f79a-46bd-a0b8-9d18116ddc79"}},
		},
		ClassGroup: {
			// by itself, or as the set of memberships
			{VerbWriteMembers, WriteProperty, []string{"bf9679c0-0de6-11d0-a285-00aa003049e2", "bc0ac240-79a9-11d0-9020-00c04fc2d4cf"}},
			{VerbAddItself, ValidatedSelf, []string{"bf9679c0-0de6-11d0-a285-00aa003049e2"}},
		},
		ClassUnit: {
			{VerbCreateAccounts, CreateChild, []string{"bf967aba-0de6-11d0-a285-00aa003049e2"}},
			{VerbLinkPolicies, WriteProperty, []string{"f30e3bbe-9ff0-11d1-b603-0000f80367c1"}},
		},
		ClassDomain: {
			{VerbReplicateSecrets, ControlAccess, []string{"1131f6ad-9c07-11d1-f79f-00c04fc2dcd2"}},
			{VerbLinkPolicies, WriteProperty, []string{"f30e3bbe-9ff0-11d1-b603-0000f80367c1"}},
		},
	}
)

// mapped are the rights of a mask with the generic ones replaced by what they stand for in
// a directory ([MS-ADTS], section 5.1.3.2).
func mapped(mask uint32) uint32 {
	if mask&GenericAll != 0 {
		mask |= FullControl
	}
	if mask&GenericWrite != 0 {
		mask |= ReadControl | WriteProperty | ValidatedSelf
	}
	if mask&0x80000000 != 0 { // read
		mask |= ReadControl | 0x4 | ReadProperty | 0x80
	}
	return mask
}

// VerbsOf are what an entry gives, or takes, for objects of a class. An entry that only
// what is below takes over gives nothing here.
func (e Entry) VerbsOf(class Class) []string {
	if !e.Known() || e.Flags&InheritOnly != 0 || e.Type == Audit || e.Type == AuditObject {
		return nil
	}
	mask := mapped(e.Mask)
	if e.Object == nil && mask&FullControl == FullControl {
		return []string{VerbEverything}
	}
	var out []string
	for _, n := range append(anyClass[:len(anyClass):len(anyClass)], byClass[class]...) {
		if mask&n.mask != n.mask {
			continue
		}
		if e.Object != nil && !oneOf(n.objects, e.Object.String()) {
			continue
		}
		out = append(out, n.verb)
	}
	return out
}

func oneOf(list []string, text string) bool {
	for _, one := range list {
		if strings.EqualFold(one, text) {
			return true
		}
	}
	return false
}

// WellKnown are names of identifiers that every domain has ([MS-DTYP], section 2.4.2.4).
var WellKnown = map[string]string{
	"S-1-1-0": "Everyone", "S-1-3-0": "Creator Owner", "S-1-3-4": "Owner Rights", "S-1-5-2": "Network", "S-1-5-4": "Interactive", "S-1-5-7": "Anonymous Logon", "S-1-5-9": "Enterprise Domain Controllers",
	"S-1-5-10": "Self", "S-1-5-11": "Authenticated Users", "S-1-5-18": "Local System", "S-1-5-19": "Local Service", "S-1-5-20": "Network Service",
}

// Anybody reports whether an identifier is of whoever has signed in.
func Anybody(sid string) bool { return sid == "S-1-1-0" || sid == "S-1-5-11" }
