package picture

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/store"
)

// FindKey takes a key pair by its number (key:7), its fingerprint or the
// beginning of it, or its name (with or without key: before it).
func (picture *Picture) FindKey(ctx context.Context, spelling string) (store.KeyPair, error) {
	rest, found := strings.CutPrefix(spelling, "key:")
	if id := app.Number(rest); found && id > 0 {
		return picture.store.KeyPair(ctx, id)
	}
	if found {
		spelling = rest
	}
	filter := "name=" + spelling
	if strings.HasPrefix(spelling, "SHA256:") {
		k, err := picture.store.KeyPairOf(ctx, spelling)
		if !errors.Is(err, store.ErrNotFound) || len(spelling) < len("SHA256:")+6 {
			return k, err
		}
		filter = "fingerprint~" + spelling
	}
	page, err := picture.store.KeyPairs(ctx, store.Query{Filters: []string{filter}, Limit: 10})
	switch {
	case err != nil:
		return store.KeyPair{}, err
	case len(page.Items) == 0:
		return store.KeyPair{}, fmt.Errorf("key %q: %w: 'moss key list' shows those that were seen", spelling, app.ErrNotFound)
	case len(page.Items) > 1:
		var all []string
		for _, k := range page.Items {
			all = append(all, k.Fingerprint)
		}
		return store.KeyPair{}, fmt.Errorf("%w: %q is ambiguous: %s", app.ErrInput, spelling, strings.Join(all, ", "))
	}
	return page.Items[0], nil
}

// Doors are the accounts that a key pair opens, as a plan has them.
func (picture *Picture) Doors(ctx context.Context, k store.KeyPair) ([]rotation.KeyDoor, []store.Dependent, error) {
	all, err := picture.store.DependentsOfKey(ctx, k.Fingerprint)
	if err != nil {
		return nil, nil, err
	}
	var doors []rotation.KeyDoor
	var holders []store.Dependent
	for _, d := range all {
		if d.Kind == estate.DependentKey {
			holders = append(holders, d)
		}
	}
	slices.SortFunc(holders, func(a, b store.Dependent) int {
		return cmp.Or(cmp.Compare(a.System, b.System), cmp.Compare(a.Place, b.Place))
	})
	for _, d := range all {
		if d.Kind != estate.DependentAuthorized {
			continue
		}
		door := rotation.KeyDoor{SystemID: strconv.FormatInt(d.SystemID, 10), System: d.System, Path: d.Path, Account: d.Key.Lets}
		// Where only some addresses are admitted, the proof comes from a holder.
		if len(holders) > 0 && slices.ContainsFunc(d.Key.Options, func(o string) bool { return strings.HasPrefix(o, "from=") }) {
			door.Via = holders[0].System
		}
		doors = append(doors, door)
	}
	return doors, holders, nil
}

// PrivateAt says where in its file a holder's key stands.
func PrivateAt(d store.Dependent) held.Locator {
	nth := 0
	if rest, found := strings.CutPrefix(d.Place, d.Path+"#"); found {
		if n, err := strconv.Atoi(rest); err == nil {
			nth = n - 1
		}
	}
	return held.Locator{Layout: held.LayoutPEM, Nth: nth, Part: held.PartValue}
}
