package planning

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// certified gathers what a certificate needs that is issued anew about a new key: the authority,
// the files of both, and the ports that show it.
func (p *planner) certified(ctx context.Context, ports []building.Point, holders []records.Dependent) error {
	by, err := p.authority(ctx)
	if err != nil {
		return err
	}
	both := map[records.SystemID]int{} // 1: its key, 2: itself
	for _, d := range holders {
		is := 1
		if d.Kind == estate.DependentCertificate {
			is = 2
		}
		both[d.SystemID] |= is
	}
	var names []string
	for _, d := range holders {
		switch is := both[d.SystemID]; {
		case is == 2:
			p.note(rotation.NoteByHand, "%s on %s has the certificate, and no key of it was read there: whoever trusts just this one must be given the new one", d.Path, d.System)
			continue
		case is == 1:
			p.note(rotation.NoteOutOfReach, "%s on %s has the key, and no file with its certificate was read there: both are replaced together, or neither", d.Path, d.System)
			continue
		case d.Key.Encrypted:
			p.note(rotation.NoteOutOfReach, "%s on %s: %v", d.Path, d.System, keys.ErrPassphrase)
			continue
		}
		if d.Kind == estate.DependentCertificate && len(names) == 0 {
			names = d.Key.Names
			p.note(rotation.NoteInfo, "%s was issued by %s and ends on %s; it stays good until then, whoever has it: it is revoked by nobody here", d.Key.Subject, d.Key.Comment, app.Day(d.Key.Ends))
		}
		p.place(d, picture.PrivateAt(d), "")
	}
	if len(p.files) == 0 {
		return fmt.Errorf("%w: no host on which both %s and its key were read: survey the host that serves it", app.ErrRefused, p.credential.Name)
	}
	for _, port := range ports {
		if p.systems[app.Number[records.SystemID](port.SystemID)] {
			p.input.Shown = append(p.input.Shown, port)
			continue
		}
		p.note(rotation.NoteOutOfReach, "port %s on %s shows it, and no file there that was read holds it: it goes on showing the old one", port.Path, port.System)
	}
	p.input.Points = []building.Point{{SystemID: by.ID.String(), System: by.Name, Account: p.credential.Name, Path: p.credential.Name, Certifies: true, Names: strings.Join(names, ", ")}}
	p.input.Authority, p.input.NoReload = by.Name, p.wish.NoReload
	return nil
}

// authority is who issues the new certificate: the one that was named, the one that issued the
// one before, or the only one.
func (p *planner) authority(ctx context.Context) (records.System, error) {
	all, err := p.planning.store.AllSystems(ctx)
	if err != nil {
		return records.System{}, err
	}
	var able []records.System
	for _, v := range all {
		if c, known := connect.For(estate.Kind(v.Kind)); known && c.Describe().Can(connect.ActCertify) {
			able = append(able, v)
		}
	}
	if p.wish.Authority != "" {
		if at := slices.IndexFunc(able, func(v records.System) bool { return v.Name == p.wish.Authority || v.ID.String() == p.wish.Authority }); at >= 0 {
			return able[at], nil
		}
		return records.System{}, fmt.Errorf("%w: no system that issues certificates is called %q", app.ErrInput, p.wish.Authority)
	}
	if _, by, err := p.planning.store.Chain(ctx, p.credential.Fingerprint); err == nil {
		if at := slices.IndexFunc(able, func(v records.System) bool { return v.ID == by }); at >= 0 {
			return able[at], nil
		}
	}
	switch len(able) {
	case 0:
		return records.System{}, fmt.Errorf("%w: no system that issues certificates is known: add one ('moss system add NAME --kind certificate-authority')", app.ErrRefused)
	case 1:
		return able[0], nil
	}
	var names []string
	for _, v := range able {
		names = append(names, v.Name)
	}
	return records.System{}, fmt.Errorf("%w: several systems issue certificates: name one (--authority): %s", app.ErrInput, strings.Join(names, ", "))
}

// ofCertificate: what was asked for is said of certificates alone.
func (w Request) ofCertificate(c records.Credential) error {
	if w.NoReload && c.Kind != credential.Certificate {
		return fmt.Errorf("%w: %s: reading files again instead of a restart is for certificates, which a port proves", app.ErrInput, c.Name)
	}
	if w.Authority != "" && c.Kind != credential.Certificate {
		return fmt.Errorf("%w: %s: an authority is named for certificates", app.ErrInput, c.Name)
	}
	return nil
}
