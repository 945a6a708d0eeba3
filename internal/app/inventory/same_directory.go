package inventory

import (
	"cmp"
	"context"
	"fmt"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/roster"
	"mossledger.example/moss/internal/records"
)

// One directory may have several servers. Kept as several systems, each account
// would be there several times, every name would mean several accounts, and a
// rotation would find the dependents of one of them only. So a directory is
// known by its identity, and a second system for it is not read.

// Claim refuses a directory that is kept already, as another system.
func (inventory *Inventory) Claim(ctx context.Context, v records.System, facts connect.Facts) *connect.Failure {
	if v.Kind != string(estate.KindDirectory) || facts.Identity == "" {
		return nil
	}
	kept, err := inventory.store.ClaimIdentity(ctx, v.ID, facts.Identity, func(other records.System) bool {
		return overlap(v.Options["base"], other.Options["base"])
	})
	if err != nil {
		return &connect.Failure{System: v.Name, Stage: connect.StagePermitted, Code: connect.CodeFailed, Words: "whether this directory is kept already cannot be read: " + err.Error(), Next: "try again", Err: err}
	}
	if kept == "" {
		return nil
	}
	return &connect.Failure{
		System: v.Name, Stage: connect.StagePermitted, Code: connect.CodeFailed,
		Words: fmt.Sprintf("it is a server of the directory that is kept as %s (%s): its accounts are there already", kept, facts.Identity),
		Next:  fmt.Sprintf("give its address to that system ('moss system change %s --option servers=%s') and remove this one ('moss system remove %s'); or give each a base of its own", kept, roster.Address{Host: cmp.Or(v.Address, v.Name), Port: v.Port}, v.Name),
	}
}

// overlap reports whether two bases have entries in common. Without a base all
// is read.
func overlap(one, other string) bool {
	a, errA := naming.NormalDN(one)
	b, errB := naming.NormalDN(other)
	if one == "" || other == "" || errA != nil || errB != nil {
		return true
	}
	return naming.Below(a, b) || naming.Below(b, a)
}
