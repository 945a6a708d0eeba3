package policies

import (
	"context"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rules"
	"mossledger.example/moss/internal/records"
)

// Kinds of order.
const (
	OrderGroup    = "group"
	OrderSequence = "sequence"
)

const mostMembers = 50

// SaveOrder keeps what a person says of the order of restarts: a new one when it has no
// revision.
func (policies *Policies) SaveOrder(ctx context.Context, by access.Actor, v records.Order) (records.Order, error) {
	if err := access.Decide(by, access.SaveOrder, access.Object{Kind: "order", Name: v.Name}); err != nil {
		return v, err
	}
	if err := checkOrder(&v); err != nil {
		return v, err
	}
	var was records.Order
	v.ID = 0
	if v.Revision != 0 {
		var err error
		if was, err = policies.store.Order(ctx, v.Name); err != nil {
			return v, err
		}
		v.ID, v.Name = was.ID, was.Name
	}
	v.ChangedBy = by.Name
	if err := policies.store.SaveOrder(ctx, v, ledger.Entry{Actor: by.Name, Act: "order.save", Phase: ledger.Outcome, Subject: v.Name, Result: "done", Changes: orderDiff(was, v)}); err != nil {
		return v, err
	}
	policies.base.Topics.Wake("all")
	return policies.store.Order(ctx, v.Name)
}

func checkOrder(v *records.Order) error {
	if err := app.CheckName("an order", v.Name); err != nil {
		return err
	}
	least := 1
	switch v.Kind {
	case OrderGroup:
		if v.AtOnce == 0 {
			v.AtOnce = 1
		}
		if v.AtOnce < 1 || v.AtOnce > 1000 {
			return fmt.Errorf("%w: 1 to 1,000 of a group are restarted at the same time", app.ErrInput)
		}
	case OrderSequence:
		least = 2
		if v.AtOnce != 0 {
			return fmt.Errorf("%w: how many at the same time is said of a group, not of a sequence", app.ErrInput)
		}
	default:
		return fmt.Errorf("%w: an order is a group or a sequence, not %q", app.ErrInput, v.Kind)
	}
	if len(v.Members) < least || len(v.Members) > mostMembers {
		return fmt.Errorf("%w: a %s has %d to %d members", app.ErrInput, v.Kind, least, mostMembers)
	}
	for _, m := range v.Members {
		if m == (records.OrderMember{}) {
			return fmt.Errorf("%w: a member says of which system, which place or which label it is", app.ErrInput)
		}
		if m.Label != "" {
			if err := rules.CheckLabel(m.Label); err != nil {
				return fmt.Errorf("%w: %w", app.ErrInput, err)
			}
		}
	}
	return nil
}

// RemoveOrder removes the one that was seen.
func (policies *Policies) RemoveOrder(ctx context.Context, by access.Actor, name string, revision int64) error {
	if err := access.Decide(by, access.RemoveOrder, access.Object{Kind: "order", Name: name}); err != nil {
		return err
	}
	was, err := policies.store.Order(ctx, name)
	if err != nil {
		return err
	}
	was.Revision = revision
	if err := policies.store.RemoveOrder(ctx, was, ledger.Entry{Actor: by.Name, Act: "order.remove", Phase: ledger.Outcome, Subject: was.Name, Result: "done", Changes: orderDiff(was, records.Order{})}); err != nil {
		return err
	}
	policies.base.Topics.Wake("all")
	return nil
}

func orderDiff(was, is records.Order) []ledger.Change {
	members := func(v records.Order) string {
		var out []string
		for _, m := range v.Members {
			out = append(out, memberWords(m))
		}
		return strings.Join(out, ", ")
	}
	return ledger.Diff([3]string{"kind", was.Kind, is.Kind}, [3]string{"at_once", fmt.Sprint(was.AtOnce), fmt.Sprint(is.AtOnce)}, [3]string{"members", members(was), members(is)}, [3]string{"description", was.Description, is.Description})
}

func memberWords(m records.OrderMember) string {
	words := m.Place
	if m.System != "" {
		words = m.System + "/" + m.Place
	}
	if m.Label != "" {
		words = strings.TrimSpace(words + " label " + m.Label)
	}
	return words
}

// fits reports whether a dependent of an account with some labels is a member.
func fits(m records.OrderMember, system, place string, labels map[string]bool) bool {
	return (m.Label == "" || labels[m.Label]) && like(m.System, system) && like(m.Place, place)
}

// like compares a text with a pattern in which * stands for any letters; an empty pattern
// fits everything. Letters are the same in upper and lower case, as hosts write them.
func like(pattern, text string) bool {
	if pattern == "" {
		return true
	}
	pattern, text = strings.ToLower(pattern), strings.ToLower(text)
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == text
	}
	if !strings.HasPrefix(text, parts[0]) {
		return false
	}
	text = text[len(parts[0]):]
	last := parts[len(parts)-1]
	for _, part := range parts[1 : len(parts)-1] {
		i := strings.Index(text, part)
		if i < 0 {
			return false
		}
		text = text[i+len(part):]
	}
	return strings.HasSuffix(text, last)
}
