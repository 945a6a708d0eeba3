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
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// FindCredential takes a credential by its number (credential:7), the fingerprint
// of its public half or the beginning of it, an account in any spelling, whose
// password is meant, or the name of a key. The password of an account that nobody
// noted yet has the number 0.
func (picture *Picture) FindCredential(ctx context.Context, spelling string) (records.Credential, error) {
	if rest, found := strings.CutPrefix(spelling, "credential:"); found {
		return picture.store.Credential(ctx, app.Number[records.CredentialID](rest))
	}
	if strings.HasPrefix(spelling, "SHA256:") {
		c, err := picture.store.KeyOf(ctx, spelling)
		if !errors.Is(err, records.ErrNotFound) || len(spelling) < len("SHA256:")+6 {
			return c, err
		}
		return picture.oneKey(ctx, spelling, "fingerprint~"+spelling)
	}
	if rest, found := strings.CutPrefix(spelling, "key:"); found {
		return picture.oneKey(ctx, rest, "name="+rest)
	}
	a, _, err := picture.FindAccount(ctx, spelling)
	if errors.Is(err, app.ErrNotFound) {
		if key, keyErr := picture.oneKey(ctx, spelling, "name="+spelling); keyErr == nil || !errors.Is(keyErr, app.ErrNotFound) {
			return key, keyErr
		}
		err = fmt.Errorf("%w; and no key is called so", err)
	}
	if err != nil {
		return records.Credential{}, err
	}
	c, err := picture.store.PasswordOf(ctx, a.ID)
	if errors.Is(err, app.ErrNotFound) {
		return records.Credential{Kind: credential.Password, Name: a.Name, AccountID: a.ID, SystemID: a.SystemID, System: a.System, Points: 1, State: records.CredentialSeen, FirstSeen: a.FirstSeen}, nil
	}
	return c, err
}

// oneKey is the only key that a filter picks.
func (picture *Picture) oneKey(ctx context.Context, spelling, filter string) (records.Credential, error) {
	page, err := picture.store.Credentials(ctx, records.Query{Filters: []string{"fingerprint~SHA256:", filter}, Limit: 10})
	switch {
	case err != nil:
		return records.Credential{}, err
	case len(page.Items) == 0:
		return records.Credential{}, fmt.Errorf("key %q: %w: 'moss credential list' shows those that were seen", spelling, app.ErrNotFound)
	case len(page.Items) > 1:
		var all []string
		for _, c := range page.Items {
			all = append(all, c.Fingerprint)
		}
		return records.Credential{}, fmt.Errorf("%w: %q is ambiguous: %s", app.ErrInput, spelling, strings.Join(all, ", "))
	}
	return page.Items[0], nil
}

// Points are where a credential is accepted, as a plan has them. With a key come
// the files that hold it.
func (picture *Picture) Points(ctx context.Context, c records.Credential) ([]building.Point, []records.Dependent, error) {
	if c.Kind == credential.Password {
		return []building.Point{{SystemID: c.SystemID.String(), System: c.System, Account: c.Name}}, nil, nil
	}
	all, err := picture.store.DependentsOfKey(ctx, c.Fingerprint)
	if err != nil {
		return nil, nil, err
	}
	var points []building.Point
	var holders []records.Dependent
	for _, d := range all {
		if d.Kind == estate.DependentKey || d.Kind == estate.DependentCloudKey || d.Kind == estate.DependentCertificate && c.Kind == credential.Certificate {
			holders = append(holders, d)
		}
	}
	slices.SortFunc(holders, func(a, b records.Dependent) int {
		return cmp.Or(cmp.Compare(a.System, b.System), cmp.Compare(a.Place, b.Place))
	})
	for _, d := range all {
		if d.Kind == estate.DependentIssued {
			identity, _, _ := strings.Cut(d.Place, "/keys/")
			points = append(points, building.Point{SystemID: d.SystemID.String(), System: d.System, Path: identity, Account: d.Key.Principal, Overlap: true, Issuer: true})
		}
		if d.Kind == estate.DependentShown {
			p := building.Point{SystemID: d.SystemID.String(), System: d.System, Path: d.Place, Account: d.Place, Shows: true}
			if len(d.Requires) > 0 {
				p.Unit = d.Requires[0]
			}
			if c.Kind == credential.Certificate {
				points = append(points, p)
			}
		}
		if d.Kind != estate.DependentAuthorized {
			continue
		}
		p := building.Point{SystemID: d.SystemID.String(), System: d.System, Path: d.Path, Account: d.Key.Lets, Overlap: true}
		// Where only some addresses are admitted, the proof comes from a holder.
		if len(holders) > 0 && slices.ContainsFunc(d.Key.Options, func(o string) bool { return strings.HasPrefix(o, "from=") }) {
			p.Via = holders[0].System
		}
		points = append(points, p)
	}
	return points, holders, nil
}

// PrivateAt says where in its file a holder's key stands.
func PrivateAt(d records.Dependent) held.Locator {
	if d.Kind == estate.DependentCloudKey {
		return held.Locator{Layout: layout.KeyFile, Part: held.PartValue}
	}
	if rest, found := strings.CutPrefix(d.Place, d.Path+"#certificate "); found {
		n, _ := strconv.Atoi(rest)
		return held.Locator{Layout: layout.Chain, Nth: max(n-1, 0), Part: held.PartValue}
	}
	nth := 0
	if rest, found := strings.CutPrefix(d.Place, d.Path+"#"); found {
		if n, err := strconv.Atoi(rest); err == nil {
			nth = n - 1
		}
	}
	return held.Locator{Layout: layout.PEM, Nth: nth, Part: held.PartValue}
}
