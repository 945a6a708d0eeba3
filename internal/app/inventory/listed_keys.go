package inventory

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/records"
)

// Outcomes of holding a host against a list of host keys.
const (
	KeyApproved  = "approved"   // it offers a key that the list has for it
	KeyKnown     = "known"      // that key was approved before
	KeyOther     = "other key"  // it offers another key than the list has for it, or a revoked one
	KeyNotListed = "not listed" // the list says nothing of it
	KeyAway      = "away"       // it offered none
	KeyReplaces  = "replaces"   // another key was approved before: each such change is a person's own decision
	KeyWaits     = "waits"      // somebody else asked for its endpoint: that is decided first, by itself
	KeyFailed    = "failed"     // we could not look, or could not keep the approval: nothing is said of its key
)

// ListedKey is what came of one host.
type ListedKey struct {
	System      string `json:"system"`
	Result      string `json:"result" enum:"approved,known,other key,not listed,away,replaces,waits,failed"`
	Fingerprint string `json:"fingerprint,omitempty" doc:"That the host offers now"`
	Words       string `json:"words,omitempty"`
}

// ListedKeys is what came of a list.
type ListedKeys struct {
	Systems []ListedKey       `json:"systems" nullable:"false"`
	Unread  []keys.UnreadLine `json:"unread" nullable:"false" doc:"Lines of the list that say nothing usable"`
}

const keyThreads = 16

// ApproveListed holds every host that is known by its key against a list of host
// keys, and approves the key of each that offers, now, one that the list has
// for it. A key that is approved already is never replaced so: a host that
// changed its key is looked at by a person. Nor does a list decide an endpoint that
// somebody else asked for, as approving one key does: whoever pastes a list has not
// seen that an account with rights was pointed at a host that is in the list too.
func (inventory *Inventory) ApproveListed(ctx context.Context, by access.Actor, list string) (ListedKeys, error) {
	out := ListedKeys{Systems: []ListedKey{}, Unread: []keys.UnreadLine{}}
	if err := access.Decide(by, access.ApproveHostKey, access.Object{Kind: "system"}); err != nil {
		return out, err
	}
	known, unread := keys.ParseKnownHosts(list)
	out.Unread = append(out.Unread, unread...)
	if len(known) == 0 {
		what := "it is empty"
		if len(unread) > 0 {
			what = fmt.Sprintf("line %d: %s", unread[0].Line, unread[0].What)
		}
		return out, fmt.Errorf("%w: the list names no host key: %s", app.ErrInput, what)
	}
	systems, err := inventory.store.AllSystems(ctx)
	if err != nil {
		return out, err
	}
	systems = slices.DeleteFunc(systems, func(v records.System) bool {
		connector, found := connect.For(estate.Kind(v.Kind))
		return !found || connector.Describe().Proof != connect.ProofHostKey
	})
	found := make([]ListedKey, len(systems))
	var group errgroup.Group
	group.SetLimit(keyThreads)
	for i, v := range systems {
		group.Go(func() error {
			found[i] = inventory.listedKey(ctx, by.Name, v, known)
			return nil
		})
	}
	_ = group.Wait()
	slices.SortFunc(found, func(a, b ListedKey) int { return cmp.Compare(a.System, b.System) })
	out.Systems = append(out.Systems, found...)
	return out, ctx.Err()
}

// listedKey holds one host against the lines about it.
func (inventory *Inventory) listedKey(ctx context.Context, by string, v records.System, known []keys.KnownHost) ListedKey {
	out := ListedKey{System: v.Name}
	var good, revoked []string
	for _, k := range known {
		if !k.Of(v.Name, v.Port) && !k.Of(v.Address, v.Port) {
			continue
		}
		if k.Revoked {
			revoked = append(revoked, k.Fingerprint)
		} else {
			good = append(good, k.Fingerprint)
		}
	}
	if len(good)+len(revoked) == 0 {
		out.Result = KeyNotListed
		return out
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	offered, err := inventory.offeredKey(ctx, v)
	out.Fingerprint = offered
	switch {
	case err != nil:
		out.Result, out.Words = KeyFailed, err.Error()
	case offered == "":
		out.Result, out.Words = KeyAway, "it offers no host key now"
	case slices.Contains(revoked, offered):
		out.Result, out.Words = KeyOther, "the list says that this key is revoked"
	case !slices.Contains(good, offered):
		out.Result, out.Words = KeyOther, "the list has "+strings.Join(good, ", ")+" for it"
	case slices.Contains(v.HostKeys, offered):
		out.Result = KeyKnown
	case len(v.HostKeys) > 0:
		out.Result, out.Words = KeyReplaces, "another key was approved for it: 'moss system check "+v.Name+" --approve "+offered+"' once it is clear why it has a new one"
	default:
		if waits, err := inventory.store.WaitsFor(ctx, v.ID); err == nil && !strings.EqualFold(waits.AskedBy, by) {
			out.Result, out.Words = KeyWaits, fmt.Sprintf("%s asked for its endpoint: look at it with 'moss approval show %d'; 'moss system check %s --approve %s' then approves both", waits.AskedBy, waits.ID, v.Name, offered)
			return out
		}
		out.Result = KeyApproved
		if err := inventory.approveOffered(ctx, by, v, offered); err != nil {
			out.Result, out.Words = KeyFailed, err.Error()
		}
	}
	return out
}
