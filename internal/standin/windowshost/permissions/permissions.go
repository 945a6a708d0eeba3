// Package permissions judges as a windows host does: what a security descriptor lets
// somebody do ([MS-DTYP], section 2.5.3.2), and who has a right of users by a policy. It
// shares with the readers of the product the parsing of descriptors, and no judgement.
package permissions

import (
	"maps"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/privilege/descriptor"
	"mossledger.example/moss/internal/standin/windowshost/wql"
)

// Rights of services ([MS-SCMR], section 3.1.4).
const (
	Change = 0x0002
	Start  = 0x0010
	Stop   = 0x0020
)

// May reports whether a descriptor lets somebody do all of a mask, who is known by some
// identifiers.
func May(raw []byte, sids []string, mask uint32) bool {
	d, err := descriptor.Parse(raw)
	if err != nil || d.Rules == nil {
		return err == nil
	}
	for _, e := range d.Rules.Entries {
		if !e.Known() || e.Flags&descriptor.InheritOnly != 0 || !among(sids, e.Trustee.String()) {
			continue
		}
		given := e.Mask
		if given&descriptor.GenericAll != 0 {
			given |= descriptor.FullControl
		}
		switch e.Type {
		case descriptor.Deny:
			if given&mask != 0 {
				return false
			}
		case descriptor.Allow:
			mask &^= given
		}
		if mask == 0 {
			return true
		}
	}
	return false
}

func among(list []string, one string) bool {
	for _, of := range list {
		if strings.EqualFold(of, one) {
			return true
		}
	}
	return false
}

// Policy is which rights of users a policy gives to whom, by the constants of the rights.
// What it does not name, hosts set for themselves.
type Policy map[string][]string

// Has reports whether one of some names has a right, and whether the policy says anything
// of it.
func (p Policy) Has(right string, names []string) (has, told bool) {
	accounts, told := p[right]
	for _, account := range accounts {
		if among(names, strings.TrimPrefix(account, "*")) {
			return true, true
		}
	}
	return false, told
}

// Records are the rights that it sets, as the set of policies that results shows them.
func (p Policy) Records() []wql.Record {
	var out []wql.Record
	for _, right := range slices.Sorted(maps.Keys(p)) {
		out = append(out, wql.NewRecord("RSOP_UserPrivilegeRight", []string{"UserRight", "precedence"}, []wql.Field{
			{"AccountList", p[right]}, {"ErrorCode", 0}, {"GPOID", "CN={31B2F340-016D-11D2-945F-00C04FB984F9},CN=POLICIES,CN=SYSTEM"}, {"id", right}, {"precedence", 1}, {"Status", 1}, {"UserRight", right},
		}))
	}
	return out
}
