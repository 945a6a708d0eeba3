package charters

import (
	"context"

	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/records"
)

// guestsOf are those of a charter's accounts that belong to a directory, where the charter
// names a host that tells what it gives to accounts of its domain; known where it names the
// kind only, so that it is about those that the host knows.
func guestsOf(d *charter.Document, host records.System, systems map[records.SystemID]records.System, accounts []records.Account) (guests []records.Account, known bool) {
	if estate.Kind(host.Kind) != estate.KindWindowsHost {
		return nil, false
	}
	anything, byName := d.Elsewhere(host.Name, host.Kind)
	for _, a := range accounts {
		if anything && estate.Kind(systems[a.SystemID].Kind) == estate.KindDirectory {
			guests = append(guests, a)
		}
	}
	return guests, !byName
}

// stranger is an account that a system does not know: it has what everyone has there.
func stranger(a records.Account) privilege.Principal {
	return privilege.Principal{ID: "stranger:" + a.ID.String(), Kind: privilege.KindAccount, Name: a.Name}
}

// homes are how much was read of the directories that guests belong to: what these tell of
// groups counts where the guests are.
func (charters *Charters) homes(ctx context.Context, list []bound) (out []records.RightsRead, err error) {
	seen := map[records.SystemID]bool{}
	for _, b := range list {
		for _, a := range b.guests {
			if seen[a.SystemID] {
				continue
			}
			seen[a.SystemID] = true
			read, err := charters.rights.Read(ctx, records.System{ID: a.SystemID})
			if err != nil {
				return nil, err
			}
			out = append(out, read)
		}
	}
	return out, nil
}
