package findings

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// keyFiles judges the keys and certificates of one system by what they are.
func keyFiles(s *SystemSnapshot) []records.Finding {
	var out []records.Finding
	for _, d := range s.Dependents {
		if d.Key == nil {
			continue
		}
		add := func(kind, severity, what, next string) {
			out = append(out, s.found(d, records.Finding{Kind: kind, Severity: severity, What: what, Next: next}))
		}
		mode, _ := strconv.ParseUint(d.Key.Mode, 8, 32)
		switch d.Kind {
		case estate.DependentKey, estate.DependentCloudKey:
			if mode&0o077 != 0 && !d.Key.Encrypted {
				add("exposed-key", "high", fmt.Sprintf("a private key without a passphrase that others than its owner may read (mode %s)", d.Key.Mode), "chmod 600 it, then rotate the key (moss credential list): who has read it is not known")
			}
			if d.Key.Type == "ssh-rsa" && d.Key.Bits > 0 && d.Key.Bits < 2048 || d.Key.Type == "ssh-dss" {
				add("weak-key", "medium", fmt.Sprintf("a weak key: %s of %d bits", d.Key.Type, d.Key.Bits), "replace it by an ed25519 key")
			}
		case estate.DependentKeytab:
			var weak []string
			for _, name := range d.Key.Encryption {
				if keys.WeakEncryption(name) {
					weak = append(weak, name)
				}
			}
			if len(weak) > 0 {
				add("weak-key", "medium", fmt.Sprintf("the key of %s is also kept for %s", d.Key.Principal, strings.Join(weak, ", ")), "make the key tab anew with aes only, once every client can")
			}
			if mode&0o077 != 0 {
				add("exposed-key", "high", fmt.Sprintf("a key tab that others than its owner may read (mode %s)", d.Key.Mode), "chmod 600 it, then change the account's password")
			}
		}
	}
	return out
}

// staleKeyTabs compares key tabs with the directory: a change of the password makes
// a new version of the key, and the old one is of no use then.
func staleKeyTabs(s *SystemSnapshot) []records.Finding {
	var out []records.Finding
	for _, d := range s.Dependents {
		if d.Kind != estate.DependentKeytab {
			continue
		}
		for _, t := range s.Ties[d.ID] {
			a, known := s.Accounts[app.Number[records.AccountID](t.Account)]
			if !known || a.KeyVersion == 0 || a.KeyVersion == d.Key.Version {
				continue
			}
			out = append(out, s.found(d, records.Finding{
				Kind: "stale-key-tab", Severity: "high", AccountID: a.ID,
				What: fmt.Sprintf("it holds version %d of the key of %s, and the directory is at version %d: tickets for it cannot be read with it", d.Key.Version, d.Key.Principal, a.KeyVersion),
				Next: "make the key tab anew from the current password, then restart what reads it",
			}))
			break
		}
	}
	return out
}

func readKeys(ctx context.Context, from Store, s *EstateSnapshot) (err error) {
	s.Keys, err = from.KeyUses(ctx)
	return err
}

// keysOfDoors: keys that open several accounts, and entries whose key nobody is
// known to hold.
func keysOfDoors(s *EstateSnapshot) []records.Finding {
	var findings []records.Finding
	for _, k := range s.Keys {
		what := fmt.Sprintf("one key (%s) opens %s", k.Fingerprint, strings.Join(k.Doors, ", "))
		switch {
		case len(k.Doors) > 1:
			held := "; nobody is known to hold it"
			if len(k.Holders) > 0 {
				held = "; it is held in " + strings.Join(k.Holders, ", ")
			}
			findings = append(findings, records.Finding{Key: "key/doors/" + k.Fingerprint, Kind: "key-with-doors", Severity: "medium", Subject: k.Name, System: k.System, DependentID: k.DependentID, What: what + held, Next: "give each door a key of its own, and restrict each with from= and command="})
		case len(k.Holders) == 0:
			findings = append(findings, records.Finding{Key: "key/unheld/" + k.Fingerprint, Kind: "unheld-key", Severity: "low", Subject: k.Name, System: k.System, DependentID: k.DependentID, What: what + ", and no system that was read holds its private half", Next: "find its holder, or remove the entry"})
		}
	}
	if len(s.Keys) >= store.MostKeyUses {
		findings = append(findings, LimitFinding("key/", "SSH keys", fmt.Sprintf("%d keys or more open something: the first %d are weighed", store.MostKeyUses, store.MostKeyUses), "the list of dependents has them all: moss dependent list --filter 'kind=authorized key'"))
	}
	return findings
}
