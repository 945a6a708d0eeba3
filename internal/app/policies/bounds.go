package policies

import (
	"context"
	"slices"
	"time"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// Bounds are what windows and orders say of the rotation of one credential.
type Bounds struct {
	policies *Policies
	windows  map[string]records.Window
	// Window is that of the account: in it its credential is changed, and is restarted what
	// has none of its own. "" for at any time.
	Window string
	// Said is how the account came to it, or which others it might have had.
	Said       string
	systems    map[string]string
	dependents map[records.DependentID]string
	orders     []records.Order
	labels     map[string]bool
	used       map[string]bool
}

// BoundsOf reads what counts for the rotation of an account's credential, which may have
// no account: 0. window is the one of the policy that starts it, "" for none.
func (policies *Policies) BoundsOf(ctx context.Context, account records.AccountID, window string) (*Bounds, error) {
	b := &Bounds{policies: policies, windows: map[string]records.Window{}, Window: window, systems: map[string]string{}, dependents: map[records.DependentID]string{}, labels: map[string]bool{}, used: map[string]bool{}}
	windows, err := policies.store.AllWindows(ctx)
	if err != nil {
		return nil, err
	}
	if b.orders, err = policies.store.AllOrders(ctx); err != nil {
		return nil, err
	}
	if account != 0 && len(windows)+len(b.orders) > 0 {
		list, err := policies.store.LabelsOf(ctx, account)
		if err != nil {
			return nil, err
		}
		for _, l := range list {
			b.labels[l.Label] = l.On
		}
	}
	for _, w := range windows {
		b.windows[w.Name] = w
		for _, name := range w.Systems {
			b.systems[name] = w.Name
		}
		for _, d := range w.Dependents {
			b.dependents[d.ID] = w.Name
		}
		at := slices.IndexFunc(w.Labels, func(label string) bool { return b.labels[label] })
		switch {
		case at < 0 || window != "":
		case b.Window == "":
			b.Window, b.Said = w.Name, "its label "+w.Labels[at]+" has the window "+w.Name
		default:
			b.Said += "; the window " + w.Name + " of its label " + w.Labels[at] + " comes after that by name, and does not count"
		}
	}
	return b, nil
}

// Of is the window in which a dependent is restarted: its own, that of its system, or that
// of the account. "" for at any time.
func (b *Bounds) Of(d records.Dependent) string {
	name := b.dependents[d.ID]
	if name == "" {
		name = b.systems[d.System]
	}
	if name == "" {
		name = b.Window
	}
	b.Use(name)
	return name
}

// Use notes that a plan needs a window.
func (b *Bounds) Use(name string) {
	if name != "" {
		b.used[name] = true
	}
}

// plannedSlots is for how many openings a plan waits, and plannedFor for how long.
const (
	plannedSlots = 40
	plannedFor   = 400 * 24 * time.Hour
)

// Openings are those of the windows that a plan needs.
func (b *Bounds) Openings() (map[string]rotation.Openings, error) {
	if len(b.used) == 0 {
		return nil, nil
	}
	out, now := map[string]rotation.Openings{}, b.policies.base.Now()
	for name := range b.used {
		w, err := windowOf(b.windows[name])
		if err != nil {
			return nil, err
		}
		out[name] = rotation.Openings{Words: WindowWords(b.windows[name]), Slots: w.Slots(now, now.Add(plannedFor), plannedSlots)}
	}
	return out, nil
}

// Groups are those that a dependent belongs to.
func (b *Bounds) Groups(d records.Dependent) []string {
	var out []string
	for _, o := range b.orders {
		if o.Kind == OrderGroup && slices.ContainsFunc(o.Members, func(m records.OrderMember) bool { return fits(m, d.System, d.Place, b.labels) }) {
			out = append(out, o.Name)
		}
	}
	return out
}

// AtOnce says how many of each group are restarted at the same time.
func (b *Bounds) AtOnce() map[string]int {
	out := map[string]int{}
	for _, o := range b.orders {
		if o.Kind == OrderGroup {
			out[o.Name] = o.AtOnce
		}
	}
	return out
}

// Sequences are the declared orders that concern some dependents: of each the stages, as
// places in the list. What is in a stage is proven before anything of the next is
// restarted. A dependent is in the first stage that it fits.
func (b *Bounds) Sequences(list []records.Dependent) [][][]int {
	var out [][][]int
	for _, o := range b.orders {
		if o.Kind != OrderSequence {
			continue
		}
		stages := make([][]int, len(o.Members))
		for i, d := range list {
			if at := slices.IndexFunc(o.Members, func(m records.OrderMember) bool { return fits(m, d.System, d.Place, b.labels) }); at >= 0 {
				stages[at] = append(stages[at], i)
			}
		}
		stages = slices.DeleteFunc(stages, func(s []int) bool { return len(s) == 0 })
		if len(stages) > 1 {
			out = append(out, stages)
		}
	}
	return out
}

// Expected are how long the dependents of a system stood still in earlier rotations, by
// place.
func (b *Bounds) Expected(ctx context.Context, system records.SystemID) (map[string]time.Duration, error) {
	return b.policies.store.ExpectedInterruptions(ctx, system)
}
