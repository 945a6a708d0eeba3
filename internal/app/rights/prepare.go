package rights

import (
	"context"
	"errors"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/records"
)

// Targets reaches systems; nothing is reached here, only what is known of one is asked.
type Targets interface {
	Target(ctx context.Context, v records.System) (connect.Connector, connect.Target, error)
}

// mostFiles is how many files and units a preparation names.
const mostFiles = 200

// Prepare says what the owner of a system must do so that it can be read and changed:
// filled in with the steward's name and public key, and with the files and units that are
// known to hold what is in custody.
func (r *Rights) Prepare(ctx context.Context, system string) ([]connect.Preparation, error) {
	v, err := r.store.System(ctx, system)
	if err != nil {
		return nil, err
	}
	connector, target, err := r.targets.Target(ctx, v)
	known := connect.Known{Flavor: v.Facts.Flavor, BaseDN: v.Facts.BaseDN}
	switch {
	case err == nil && target.Steward.PrivateKey.Empty():
	case err == nil:
		pair, err := keys.PairOf(target.Steward.PrivateKey)
		if err == nil { // one with a passphrase cannot be read, and its owner has the public half
			known.PublicKey = pair.Line
		}
	case errors.Is(err, app.ErrCannot):
		return nil, err
	default: // what may not be sent there is not needed to say what must be done there
		var there bool
		if connector, there = connect.For(estate.Kind(v.Kind)); !there {
			return nil, err
		}
		target = connect.Target{Name: v.Name, Kind: estate.Kind(v.Kind), Address: v.Address, Options: v.Options}
		if s, err := r.store.Steward(ctx, v.Steward); err == nil {
			target.Steward.Account = s.Account
		}
	}
	target.Steward = connect.Steward{Account: target.Steward.Account} // the rest has done its part
	if err = r.holders(ctx, v, &known); err != nil {
		return nil, err
	}
	if known.SID, err = r.sidOf(ctx, v, target.Steward.Account); err != nil {
		return nil, err
	}
	return append([]connect.Preparation{}, connector.Prepare(target, known)...), nil
}

// holders names the files of a system that hold copies, keys and certificates, and the units
// that use them.
func (r *Rights) holders(ctx context.Context, v records.System, known *connect.Known) error {
	page, err := r.store.Dependents(ctx, 0, records.Query{Filters: []string{"system=" + v.Name, "gone="}, Limit: 1000})
	if err != nil {
		return err
	}
	for _, d := range page.Items {
		held := d.Kind == estate.DependentFile && d.Copy != nil && d.Copy.Format != estate.FormatMention && d.Copy.Fixed == "" && len(d.Ties) > 0
		held = held || (d.Kind == estate.DependentKey || d.Kind == estate.DependentCertificate) && len(d.Ties)+len(d.Readers) > 0
		if held && !slices.Contains(known.Files, d.Path) && len(known.Files) < mostFiles {
			known.Files = append(known.Files, d.Path)
		}
	}
	for _, d := range page.Items {
		uses := slices.ContainsFunc(d.Uses, func(p string) bool { return slices.Contains(known.Files, p) })
		if d.Kind != estate.DependentUnit || !uses || len(known.Units) == mostFiles {
			continue
		}
		known.Units = append(known.Units, d.Place)
		if d.Reloads {
			known.Reload = append(known.Reload, d.Place)
		}
	}
	slices.Sort(known.Files)
	slices.Sort(known.Units)
	slices.Sort(known.Reload)
	return nil
}

// sidOf is that of a steward which is an account of the directory itself.
func (r *Rights) sidOf(ctx context.Context, v records.System, steward string) (string, error) {
	if estate.Kind(v.Kind).Class() != estate.ClassDirectory || steward == "" {
		return "", nil
	}
	page, err := r.store.Accounts(ctx, records.Query{Filters: []string{"system=" + v.Name, "gone="}, Search: steward, Limit: 100})
	if err != nil {
		return "", err
	}
	for _, a := range page.Items {
		if strings.EqualFold(a.DN, steward) || strings.EqualFold(a.UPN, steward) || strings.EqualFold(a.Name, steward) {
			return a.SID, nil
		}
	}
	return "", nil
}
