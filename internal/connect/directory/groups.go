package directory

import (
	"context"
	"slices"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/rights"
	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/naming"
)

// readGroups reads the groups of the whole directory: accounts below a base lie
// in groups beyond it. Where only the base may be read, that is told.
func (v *visit) readGroups(ctx context.Context) error {
	filter, attributes := rfcGroups, []string{"cn", "member", "uniqueMember", "memberUid", "gidNumber"}
	if v.windows() {
		filter, attributes = windowsGroups, []string{"memberOf", "objectSid"}
	}
	if v.rights != nil {
		attributes = append(attributes, v.of(rights.GroupAttributes, rights.PlainGroupAttributes)...)
	}
	read := func(base string) error {
		return v.pages(ctx, base, filter, attributes, func(entries []*ldap.Entry) error {
			if v.rights != nil {
				v.rights.Take(entries)
			}
			for _, e := range entries {
				v.groups.Add(e, v.windows())
			}
			return nil
		})
	}
	var covered []string // folded
	for _, base := range v.contexts {
		if v.closed[base] != "" {
			continue
		}
		err := read(base)
		if err == nil {
			covered = append(covered, values.Fold(base))
			continue
		}
		f := asFailure(v.target, err)
		if v.reads(base) || f.Code != connect.CodeGone && f.Code != connect.CodeNotPermitted {
			return err
		}
		problem := connect.Unread{Stage: connect.StageRead, Place: base, What: "groups beyond the base cannot be read, so groups of groups may be missing: " + f.Words, Next: "grant the steward the right to read groups there"}
		if err := v.emit(connect.Batch{Problems: []connect.Unread{problem}}); err != nil {
			return err
		}
	}
	for _, base := range v.bases {
		below := func(context string) bool { return naming.Below(values.Fold(base), context) }
		if v.closed[base] == "" && !slices.ContainsFunc(covered, below) {
			if err := read(base); err != nil {
				return err
			}
		}
	}
	return nil
}
