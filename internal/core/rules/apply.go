package rules

import (
	"context"
	"errors"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Rule puts a label on accounts, or keeps it from them.
type Rule struct {
	ID       int64
	Name     string
	Label    string
	Excludes bool
	When     string
}

var (
	labelPattern = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)
	namePattern  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)
)

// CheckLabel says why a text cannot be a label, or nil.
func CheckLabel(label string) error {
	if !labelPattern.MatchString(label) {
		return errors.New("a label is of small letters, digits, dots, dashes and underscores, begins with a letter or digit, and has at most 63")
	}
	return nil
}

// CheckName says why a text cannot be a rule's name, or nil.
func CheckName(name string) error {
	if !namePattern.MatchString(name) {
		return errors.New("the name of a rule is of letters, digits, dots, dashes and underscores, begins with a letter or digit, and has at most 63")
	}
	return nil
}

// Check says why a rule cannot be one.
func (r Rule) Check() error {
	if err := CheckName(r.Name); err != nil {
		return err
	}
	if err := CheckLabel(r.Label); err != nil {
		return err
	}
	_, err := Compile(r.When)
	return err
}

// Set is some rules, ready to be applied. A rule that is none any more, because the
// language or its fields changed, matches nobody and is told.
type Set struct {
	rules    []Rule
	compiled []*Condition
	spent    []time.Duration
	needs    bool
	Failed   map[int64]Failure // by rule
}

// Failure is what went wrong with a rule.
type Failure struct {
	Rule     Rule
	Words    string
	Account  string // the first that it could not be decided for; "" when it is for all
	Accounts int    // how many
}

// Allowance is how long one rule may take in all. One that takes longer is left alone for
// the rest, and told.
const Allowance = 20 * time.Second

// NewSet reads rules.
func NewSet(list []Rule) *Set {
	s := &Set{rules: list, compiled: make([]*Condition, len(list)), spent: make([]time.Duration, len(list)), Failed: map[int64]Failure{}}
	for i, r := range list {
		c, err := Compile(r.When)
		if err != nil {
			s.Failed[r.ID] = Failure{Rule: r, Words: err.Error()}
			continue
		}
		s.compiled[i] = c
		s.needs = s.needs || c.NeedsDependents()
	}
	return s
}

// NeedsDependents reports whether some rule looks at what depends on accounts.
func (s *Set) NeedsDependents() bool { return s.needs }

// Clock is how time is measured and limited.
type Clock struct {
	Now    func() time.Time
	Within func(context.Context, time.Duration) (context.Context, context.CancelFunc)
}

// Match returns the rules that match an account, in their order. A rule that cannot be
// decided does not match, and is told. A set is for one goroutine.
func (s *Set) Match(ctx context.Context, name string, facts *Facts, clock Clock) ([]Rule, error) {
	var out []Rule
	var limited context.Context // of those that may take long; one does for all, since each is stopped by what it spent as well
	var at time.Time            // since when; what others take in between is little
	for i, c := range s.compiled {
		if c == nil {
			continue
		}
		asked := ctx
		if c.stoppable(facts) {
			if limited == nil {
				var cancel context.CancelFunc
				limited, cancel = clock.Within(ctx, Allowance)
				defer cancel()
			}
			asked = limited
		}
		if c.loops && at.IsZero() {
			at = clock.Now()
		}
		matches, err := c.Matches(asked, facts)
		if c.loops {
			now := clock.Now()
			s.spent[i], at = s.spent[i]+now.Sub(at), now
		}
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case err != nil && asked.Err() != nil || s.spent[i] >= Allowance:
			s.compiled[i], limited = nil, nil
			s.Failed[s.rules[i].ID] = Failure{Rule: s.rules[i], Words: "it takes longer than " + Allowance.String() + " in all: the accounts after this one were not looked at", Account: name}
		case err != nil:
			f, told := s.Failed[s.rules[i].ID]
			if !told {
				f = Failure{Rule: s.rules[i], Words: err.Error(), Account: name}
			}
			f.Accounts++
			s.Failed[s.rules[i].ID] = f
		case matches:
			out = append(out, s.rules[i])
		}
	}
	return out, nil
}

// Labelled is a label on an account, and why it is or is not there.
type Labelled struct {
	Label    string
	ByHand   bool
	Rules    []string // that give it
	Excluded []string // rules that keep it away; then it is not on the account
}

// On reports whether the label is on the account: an exclusion always wins.
func (l Labelled) On() bool { return len(l.Excluded) == 0 && (l.ByHand || len(l.Rules) > 0) }

// Decide puts together what people and rules say, by label.
func Decide(byHand []string, matched []Rule) []Labelled {
	at := map[string]*Labelled{}
	of := func(label string) *Labelled {
		if at[label] == nil {
			at[label] = &Labelled{Label: label}
		}
		return at[label]
	}
	for _, label := range byHand {
		of(label).ByHand = true
	}
	for _, r := range matched {
		l := of(r.Label)
		if r.Excludes {
			l.Excluded = append(l.Excluded, r.Name)
		} else {
			l.Rules = append(l.Rules, r.Name)
		}
	}
	out := make([]Labelled, 0, len(at))
	for _, l := range at {
		out = append(out, *l)
	}
	slices.SortFunc(out, func(a, b Labelled) int { return strings.Compare(a.Label, b.Label) })
	return out
}

// On lists the labels that are on the account.
func On(all []Labelled) []string {
	out := []string{}
	for _, l := range all {
		if l.On() {
			out = append(out, l.Label)
		}
	}
	return out
}
