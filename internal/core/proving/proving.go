// Package proving shows which rights a job needs: all are given to a scratch account, the job
// is done, and then each right is taken away in turn. What fails without it needs it; what
// nothing fails without is not needed. At the end the account has what it had at the beginning.
//
// It is folklore turned into an experiment. What it shows is true of the job that was done,
// and of no other: a step that is not in it proves nothing.
package proving

import (
	"context"
	"fmt"
	"strings"
)

// Tried is what one step came to.
type Tried struct {
	Step  string `json:"step"`
	OK    bool   `json:"ok"`
	Words string `json:"words,omitempty"` // the system's own, of a step that failed
}

// Verdicts about one right.
const (
	Needed   = "needed"   // something fails without it
	Unneeded = "unneeded" // nothing fails without it
	Unproven = "unproven" // it could not be found out
)

// Item is what was found out about one right.
type Item struct {
	Right   string  `json:"right"` // in words
	Verdict string  `json:"verdict"`
	Fails   []Tried `json:"fails,omitempty"` // steps that fail without it
	Words   string  `json:"words,omitempty"` // why it is unproven
}

// Report is what came of it.
type Report struct {
	With       []Tried `json:"with" nullable:"false"`  // the job with all of it
	Items      []Item  `json:"items" nullable:"false"` // each taken away in turn
	Again      []Tried `json:"again" nullable:"false"` // the job with all of it once more, at the end
	Sufficient bool    `json:"sufficient"`
	Minimal    bool    `json:"minimal"` // sufficient, and all of it is needed
}

// World is where it is tried. Take and Give are about one right, by its index.
type World interface {
	Take(ctx context.Context, item int) error
	Give(ctx context.Context, item int) error
	Try(ctx context.Context, step string) (ok bool, words string, err error)
}

// Prove tries a job with all rights, which are given already, and without each. An error is
// that it could not go on: the report has what was found out until then.
func Prove(ctx context.Context, rights, job []string, world World) (r Report, err error) {
	r.With, r.Items, r.Again = []Tried{}, []Item{}, []Tried{}
	if r.With, err = run(ctx, job, world); err != nil {
		return r, err
	}
	if r.Sufficient = all(r.With); !r.Sufficient {
		return r, nil // without a job that works, what fails says nothing
	}
	for i, right := range rights {
		if ctx.Err() != nil {
			return r, ctx.Err()
		}
		item := Item{Right: right, Verdict: Unneeded}
		if err := world.Take(ctx, i); err != nil {
			item.Verdict, item.Words = Unproven, "it could not be taken away: "+err.Error()
		} else {
			tried, err := run(ctx, job, world)
			for _, t := range tried {
				if !t.OK {
					item.Verdict, item.Fails = Needed, append(item.Fails, t)
				}
			}
			if err != nil && item.Verdict != Needed {
				item.Verdict, item.Words = Unproven, err.Error()
			}
		}
		// What is not given back makes all that comes after it say something else.
		if err := world.Give(ctx, i); err != nil {
			r.Items = append(r.Items, item)
			return r, fmt.Errorf("%s could not be given back: %w", right, err)
		}
		r.Items = append(r.Items, item)
	}
	if r.Again, err = run(ctx, job, world); err != nil {
		return r, err
	}
	if !all(r.Again) { // the job changed what it stands on: what failed in between may have failed for that
		for i := range r.Items {
			r.Items[i].Verdict, r.Items[i].Words = Unproven, "at the end the job fails with all of it, too: a step leaves something behind that it stumbles over"
		}
		r.Sufficient = false
		return r, nil
	}
	r.Minimal = true
	for _, item := range r.Items {
		r.Minimal = r.Minimal && item.Verdict == Needed
	}
	return r, nil
}

func run(ctx context.Context, job []string, world World) ([]Tried, error) {
	out := make([]Tried, 0, len(job))
	for _, step := range job {
		ok, words, err := world.Try(ctx, step)
		if err != nil {
			return out, err
		}
		out = append(out, Tried{step, ok, words})
	}
	return out, nil
}

func all(list []Tried) bool {
	for _, t := range list {
		if !t.OK {
			return false
		}
	}
	return true
}

// MostSteps of a job, and the longest of them.
const (
	MostSteps   = 100
	LongestStep = 4000
)

// ParseJob reads a job: a step a line, empty lines and those that begin with # left out.
func ParseJob(text string) ([]string, error) {
	out := []string{}
	n := 0
	for line := range strings.Lines(text) {
		n++
		line = strings.TrimSpace(line)
		switch {
		case line == "" || strings.HasPrefix(line, "#"):
			continue
		case len(line) > LongestStep:
			return nil, fmt.Errorf("line %d: a step has at most %d letters", n, LongestStep)
		case strings.ContainsRune(line, 0):
			return nil, fmt.Errorf("line %d: a step has no letter of the number 0", n)
		}
		out = append(out, line)
	}
	switch {
	case len(out) == 0:
		return nil, fmt.Errorf("the job has no steps: write one a line")
	case len(out) > MostSteps:
		return nil, fmt.Errorf("the job has %d steps: at most %d", len(out), MostSteps)
	}
	return out, nil
}
