package picture

import (
	"context"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/records"
)

// Coverage says how much of the estate a statement rests on.
type Coverage struct {
	Systems    int         `json:"systems" doc:"Systems that are known"`
	Incomplete []Uncovered `json:"incomplete" nullable:"false" doc:"Those that were not read completely"`
}

// Uncovered is a system that was not read completely.
type Uncovered struct {
	System string    `json:"system"`
	State  string    `json:"state"`
	Why    string    `json:"why"`
	Since  time.Time `json:"since,omitzero" doc:"When it was last read completely; absent for never"`
}

// Words is the coverage in a sentence: "4 of 61 systems not read since Tuesday".
func (c Coverage) Words() string {
	switch n := len(c.Incomplete); {
	case c.Systems == 0:
		return "no system is known"
	case n == 0 && c.Systems == 1:
		return "the only system was read completely"
	case n == 0:
		return fmt.Sprintf("all %d systems were read completely", c.Systems)
	default:
		var oldest time.Time
		never := false
		for _, u := range c.Incomplete {
			never = never || u.Since.IsZero()
			if oldest.IsZero() || u.Since.Before(oldest) {
				oldest = u.Since
			}
		}
		text := fmt.Sprintf("%d of %d systems not read completely", n, c.Systems)
		if !never {
			text += " since " + oldest.UTC().Format("Monday, 2 January")
		}
		if n <= 3 {
			var names []string
			for _, u := range c.Incomplete {
				names = append(names, u.System)
			}
			text += " (" + strings.Join(names, ", ") + ")"
		}
		return text
	}
}

// Coverage tells which systems were not read completely.
func (picture *Picture) Coverage(ctx context.Context) (Coverage, error) {
	return ReadCoverage(ctx, picture.store)
}

// Reading tells what was not read; the store does.
type Reading interface {
	Unread(ctx context.Context) (list []records.Unread, all int, err error)
}

// ReadCoverage tells which systems were not read completely.
func ReadCoverage(ctx context.Context, of Reading) (Coverage, error) {
	unread, all, err := of.Unread(ctx)
	if err != nil {
		return Coverage{}, err
	}
	out := Coverage{Systems: all, Incomplete: []Uncovered{}}
	for _, v := range unread {
		why := v.Words
		if why == "" {
			why = "not surveyed yet"
		}
		out.Incomplete = append(out.Incomplete, Uncovered{System: v.Name, State: v.State, Why: why, Since: v.Complete})
	}
	return out, nil
}

// Incomplete is a system whose dependents are not all known.
type Incomplete struct {
	System string    `json:"system"`
	Why    string    `json:"why"`
	Since  time.Time `json:"since,omitzero" doc:"Last complete reading; absent when there was none"`
}

// Incomplete lists the systems that keep the picture from being complete.
func (picture *Picture) Incomplete(ctx context.Context) ([]Incomplete, error) {
	unread, _, err := picture.store.Unread(ctx)
	out := []Incomplete{}
	for _, v := range unread {
		why := v.Words
		if v.Visited.IsZero() && why == "" {
			why = "never surveyed"
		}
		out = append(out, Incomplete{System: v.Name, Why: why, Since: v.Complete})
	}
	return out, err
}
