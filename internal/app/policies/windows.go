package policies

import (
	"context"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rules"
	"mossledger.example/moss/internal/records"
)

// WindowNow is a window with when it is open.
type WindowNow struct {
	records.Window
	Open  bool            `json:"open" doc:"It is open now"`
	Slots []calendar.Slot `json:"slots" nullable:"false" doc:"When it is open next, the one of now first"`
}

// shownSlots is how many openings are shown of a window.
const shownSlots = 10

// windowOf is what a window computes with.
func windowOf(v records.Window) (calendar.Window, error) {
	zone, err := Zone(v.Zone)
	if err != nil {
		return calendar.Window{}, err
	}
	w, err := calendar.NewWindow(v.Rule, v.Begins, zone, time.Duration(v.Minutes)*time.Minute)
	if err != nil {
		return w, fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	return w, nil
}

// Now adds when a window is open.
func (policies *Policies) Now(v records.Window) (WindowNow, error) {
	out := WindowNow{Window: v, Slots: []calendar.Slot{}}
	w, err := windowOf(v)
	if err != nil {
		return out, err
	}
	now := policies.base.Now()
	out.Slots = append(out.Slots, w.Slots(now, now.Add(ahead), shownSlots)...)
	out.Open = len(out.Slots) > 0 && out.Slots[0].Open(now)
	return out, nil
}

// WindowWords says when a window is open.
func WindowWords(v records.Window) string {
	return fmt.Sprintf("%s from %s %s for %d minutes", v.Rule, v.Begins, v.Zone, v.Minutes)
}

// PreviewWindow says when a draft would be open. Nothing is kept of it.
func (policies *Policies) PreviewWindow(by access.Actor, v records.Window) (WindowNow, error) {
	if err := access.Decide(by, access.PreviewWindow, access.Object{Kind: "window", Name: v.Name}); err != nil {
		return WindowNow{}, err
	}
	v.Labels, v.Systems, v.Dependents, v.Policies = []string{}, []string{}, []records.WindowDependent{}, []string{}
	return policies.Now(v)
}

// SaveWindow keeps a window: a new one when it has no revision.
func (policies *Policies) SaveWindow(ctx context.Context, by access.Actor, v records.Window) (WindowNow, error) {
	if err := access.Decide(by, access.SaveWindow, access.Object{Kind: "window", Name: v.Name}); err != nil {
		return WindowNow{}, err
	}
	if err := app.CheckName("a window", v.Name); err != nil {
		return WindowNow{}, err
	}
	w, err := windowOf(v)
	if err != nil {
		return WindowNow{}, err
	}
	v.Rule, v.Begins = w.String(), w.Begins()
	var was records.Window
	v.ID = 0
	if v.Revision != 0 {
		if was, err = policies.store.Window(ctx, v.Name); err != nil {
			return WindowNow{}, err
		}
		v.ID, v.Name = was.ID, was.Name
	}
	for _, label := range v.Labels {
		if err := rules.CheckLabel(label); err != nil {
			return WindowNow{}, fmt.Errorf("%w: %w", app.ErrInput, err)
		}
	}
	for i, name := range v.Systems {
		system, err := policies.store.System(ctx, name)
		if err != nil {
			return WindowNow{}, err
		}
		v.Systems[i] = system.Name
	}
	v.ChangedBy = by.Name
	if err := policies.store.SaveWindow(ctx, v, ledger.Entry{Actor: by.Name, Act: "window.save", Phase: ledger.Outcome, Subject: v.Name, Result: "done", Changes: windowDiff(was, v)}); err != nil {
		return WindowNow{}, err
	}
	policies.tell()
	if v, err = policies.store.Window(ctx, v.Name); err != nil {
		return WindowNow{}, err
	}
	return policies.Now(v)
}

// RemoveWindow removes the window that was seen, if no policy rotates in it.
func (policies *Policies) RemoveWindow(ctx context.Context, by access.Actor, name string, revision int64) error {
	if err := access.Decide(by, access.RemoveWindow, access.Object{Kind: "window", Name: name}); err != nil {
		return err
	}
	was, err := policies.store.Window(ctx, name)
	if err != nil {
		return err
	}
	was.Revision = revision
	if err := policies.store.RemoveWindow(ctx, was, ledger.Entry{Actor: by.Name, Act: "window.remove", Phase: ledger.Outcome, Subject: was.Name, Result: "done", Changes: windowDiff(was, records.Window{})}); err != nil {
		return err
	}
	policies.tell()
	return nil
}

func windowDiff(was, is records.Window) []ledger.Change {
	when := func(v records.Window) string {
		if v.Rule == "" {
			return ""
		}
		return WindowWords(v)
	}
	dependents := func(v records.Window) string {
		var out []string
		for _, d := range v.Dependents {
			out = append(out, d.ID.String())
		}
		return strings.Join(out, ", ")
	}
	return ledger.Diff([3]string{"open", when(was), when(is)}, [3]string{"labels", strings.Join(was.Labels, ", "), strings.Join(is.Labels, ", ")}, [3]string{"systems", strings.Join(was.Systems, ", "), strings.Join(is.Systems, ", ")},
		[3]string{"dependents", dependents(was), dependents(is)}, [3]string{"description", was.Description, is.Description})
}
