package configuration

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/ledger"
)

// Difference is one thing that would be, or is, otherwise than before.
type Difference struct {
	Part   string          `json:"part" enum:"rules,windows,policies,orders,requirements,charters,recipients,systems,people,labels"`
	Name   string          `json:"name"`
	What   string          `json:"what" enum:"added,changed,removed"`
	Fields []ledger.Change `json:"fields" nullable:"false"`
}

// step is one thing of a document that differs from what is there.
type step struct {
	change Difference
	was    any // nil when it is new
	// do makes it so, within a transaction, and returns how the thing is afterwards; nil when
	// it is gone.
	do func(ctx context.Context) (any, error)
}

// seen is how a thing is now.
type seen[T any] struct {
	name     string
	text     T
	revision int64
}

// part is what differs of one part of a document.
type part[T any] struct {
	name   string
	wanted map[string]T // nil when the document does not name it
	now    func(ctx context.Context) ([]seen[T], error)
	// at is how one thing is now, where that is asked for without reading all; nil otherwise.
	at func(ctx context.Context, name string) (seen[T], error)
	// save and remove have the revision that was seen; 0 for a new one.
	save   func(ctx context.Context, name string, v T, revision int64) error
	remove func(ctx context.Context, name string, revision int64) error
}

// steps are what differs, in the order of the names.
func (p part[T]) steps(ctx context.Context) ([]step, error) {
	if p.wanted == nil {
		return nil, nil
	}
	list, err := p.now(ctx)
	if err != nil {
		return nil, err
	}
	is := map[string]seen[T]{}
	for _, v := range list {
		is[strings.ToLower(v.name)] = v
	}
	var out []step
	asked := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(p.wanted)) {
		key := strings.ToLower(name)
		if other := asked[key]; other != "" {
			return nil, fmt.Errorf("%w: %s: %s and %s are the same name", app.ErrInput, p.name, other, name)
		}
		asked[key] = name
		v, there := is[key]
		if !there {
			v.name = name
		}
		want := p.wanted[name]
		if there && same(v.text, want) {
			continue
		}
		out = append(out, step{Difference{Part: p.name, Name: v.name, What: "added"}, nil, func(ctx context.Context) (any, error) {
			now, err := p.one(ctx, v.name)
			if err != nil {
				return nil, err
			}
			if err := p.save(ctx, v.name, want, now.revision); err != nil {
				return nil, err
			}
			now, err = p.one(ctx, v.name)
			return now.text, err
		}})
		if there {
			out[len(out)-1].change.What, out[len(out)-1].was = "changed", v.text
		}
	}
	for _, key := range slices.Sorted(maps.Keys(is)) {
		if asked[key] != "" {
			continue
		}
		v := is[key]
		out = append(out, step{Difference{Part: p.name, Name: v.name, What: "removed"}, v.text, func(ctx context.Context) (any, error) {
			now, err := p.one(ctx, v.name)
			if err != nil {
				return nil, err
			}
			return nil, p.remove(ctx, v.name, now.revision)
		}})
	}
	return out, nil
}

// one is how a thing is now; without a revision when it is not there.
func (p part[T]) one(ctx context.Context, name string) (seen[T], error) {
	if p.at != nil {
		return p.at(ctx, name)
	}
	list, err := p.now(ctx)
	for _, v := range list {
		if strings.EqualFold(v.name, name) {
			return v, err
		}
	}
	return seen[T]{name: name}, err
}

// plain is a thing as its fields; what is empty is left out.
func plain(v any) map[string]any {
	raw, err := json.Marshal(v)
	out := map[string]any{}
	if err == nil {
		err = json.Unmarshal(raw, &out)
	}
	if err != nil {
		panic("configuration: " + err.Error()) // a programming error
	}
	maps.DeleteFunc(out, func(_ string, v any) bool {
		list, is := v.([]any)
		return v == nil || v == "" || v == false || v == 0.0 || is && len(list) == 0
	})
	return out
}

func same(a, b any) bool { return len(fieldsOf(a, b)) == 0 }

// fieldsOf are the fields in which two differ; nil has none at all.
func fieldsOf(a, b any) []ledger.Change {
	from, to := plain(a), plain(b)
	names := map[string]bool{}
	for name := range from {
		names[name] = true
	}
	for name := range to {
		names[name] = true
	}
	out := []ledger.Change{}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if was, is := wordsOf(from[name]), wordsOf(to[name]); was != is {
			out = append(out, ledger.Change{Field: name, From: was, To: is})
		}
	}
	return out
}

func wordsOf(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case []any:
		texts := make([]string, len(v))
		for i, one := range v {
			texts[i] = wordsOf(one)
		}
		return strings.Join(texts, ", ")
	case map[string]any:
		var texts []string
		for _, key := range slices.Sorted(maps.Keys(v)) {
			texts = append(texts, key+" "+wordsOf(v[key]))
		}
		return strings.Join(texts, " ")
	}
	return fmt.Sprint(v)
}

// errSame takes back what made no difference.
var errSame = errors.New("it is the same")

// carry does all steps within one transaction. What another one is in the way of is tried
// again after that; where all are in each other's way, loosen makes room: windows give up
// what they will not have, policies their precedence.
func (c *Configuration) carry(ctx context.Context, steps []step, loosen func(ctx context.Context) error) ([]Difference, error) {
	done := make([]*Difference, len(steps))
	left := make([]int, len(steps))
	for i := range left {
		left[i] = i
	}
	for loosened := false; len(left) > 0; {
		var again []int
		var first error
		for _, i := range left {
			s := steps[i]
			change := s.change
			err := c.store.Together(ctx, func(ctx context.Context) error {
				is, err := s.do(ctx)
				if err != nil {
					return err
				}
				change.Fields = fieldsOf(s.was, is)
				if change.What == "changed" && len(change.Fields) == 0 {
					return errSame
				}
				return nil
			})
			switch {
			case errors.Is(err, errSame):
			case ctx.Err() != nil:
				return nil, ctx.Err()
			case err != nil:
				again = append(again, i)
				if first == nil {
					first = fmt.Errorf("%s %s: %w", s.change.Part, s.change.Name, err)
				}
			default:
				done[i] = &change
			}
		}
		switch {
		case len(again) < len(left):
		case loosened:
			return nil, first
		default:
			loosened = true
			if err := loosen(ctx); err != nil {
				return nil, errors.Join(first, err)
			}
		}
		left = again
	}
	out := []Difference{}
	for _, change := range done {
		if change != nil {
			out = append(out, *change)
		}
	}
	return out, nil
}
