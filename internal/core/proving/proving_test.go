package proving

import (
	"context"
	"errors"
	"fmt"
	"math/rand"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shop is a world where each step needs some rights, any of a few ways.
type shop struct {
	has   []bool
	needs map[string][][]int // ways of each step: rights that it takes
	spent map[string]int     // how often a step works; 0 for always
	away  func(what string) bool
}

func (s *shop) Take(_ context.Context, i int) error { return s.set(i, false, "take") }
func (s *shop) Give(_ context.Context, i int) error { return s.set(i, true, "give") }

func (s *shop) set(i int, has bool, what string) error {
	if s.away != nil && s.away(what) {
		return errors.New("away")
	}
	s.has[i] = has
	return nil
}

func (s *shop) Try(_ context.Context, step string) (bool, string, error) {
	if s.away != nil && s.away("try") {
		return false, "", errors.New("away")
	}
	if left, counted := s.spent[step]; counted {
		if left == 0 {
			return false, "it is used up", nil
		}
		s.spent[step]--
	}
	for _, way := range s.needs[step] {
		if !slices.ContainsFunc(way, func(i int) bool { return !s.has[i] }) {
			return true, "", nil
		}
	}
	return false, "permission denied", nil
}

// On made-up shops the verdict is that of trying it by hand: a right is needed if some step
// has no way without it. The account has all of them again at the end.
func TestProveAgainstReckoning(t *testing.T) {
	for seed := range int64(2000) {
		r := rand.New(rand.NewSource(seed))
		n := 1 + r.Intn(5)
		s := &shop{has: make([]bool, n), needs: map[string][][]int{}}
		rights := make([]string, n)
		for i := range n {
			s.has[i], rights[i] = true, fmt.Sprint("right ", i)
		}
		var job []string
		for i := range 1 + r.Intn(4) {
			step := fmt.Sprint("step ", i)
			job = append(job, step)
			for range 1 + r.Intn(2) {
				var way []int
				for j := range n {
					if r.Intn(3) == 0 {
						way = append(way, j)
					}
				}
				s.needs[step] = append(s.needs[step], way)
			}
		}
		report, err := Prove(t.Context(), rights, job, s)
		require.NoError(t, err)
		require.True(t, report.Sufficient, "all rights are there")
		minimal := true
		for i, item := range report.Items {
			var fails []string
			for _, step := range job {
				if !slices.ContainsFunc(s.needs[step], func(way []int) bool { return !slices.Contains(way, i) }) {
					fails = append(fails, step)
				}
			}
			var got []string
			for _, f := range item.Fails {
				got = append(got, f.Step)
				require.Equal(t, "permission denied", f.Words)
			}
			require.Equal(t, fails, got, "seed %d, %s", seed, item.Right)
			require.Equal(t, len(fails) > 0, item.Verdict == Needed)
			minimal = minimal && len(fails) > 0
		}
		require.Equal(t, minimal, report.Minimal)
		require.NotContains(t, s.has, false)
	}
}

func TestProveThatSaysNothing(t *testing.T) {
	s := &shop{has: []bool{true}, needs: map[string][][]int{"a": {{0}}, "b": {}}}
	report, err := Prove(t.Context(), []string{"x"}, []string{"a", "b"}, s)
	require.NoError(t, err)
	assert.False(t, report.Sufficient)
	assert.Empty(t, report.Items, "a job that fails with all of it shows nothing about any of it")
	assert.Equal(t, []Tried{{"a", true, ""}, {"b", false, "permission denied"}}, report.With)

	// A step that works twice only: what fails later does not fail for want of a right.
	s = &shop{has: []bool{true, true}, needs: map[string][][]int{"a": {{}}}, spent: map[string]int{"a": 2}}
	report, err = Prove(t.Context(), []string{"x", "y"}, []string{"a"}, s)
	require.NoError(t, err)
	assert.False(t, report.Minimal)
	for _, item := range report.Items {
		assert.Equal(t, Unproven, item.Verdict)
	}

	// Away while something is taken: that one is unproven. Away while it is given back: it ends.
	for _, what := range []string{"take", "try", "give"} {
		calls := 0
		s = &shop{has: []bool{true, true}, needs: map[string][][]int{"a": {{0, 1}}}, away: func(now string) bool {
			if now == what {
				calls++
			}
			return now == what && calls == map[string]int{"take": 1, "try": 2, "give": 1}[what]
		}}
		report, err = Prove(t.Context(), []string{"x", "y"}, []string{"a"}, s)
		if what == "give" {
			require.ErrorContains(t, err, "could not be given back")
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, Unproven, report.Items[0].Verdict, what)
		assert.Equal(t, Needed, report.Items[1].Verdict, what)
		assert.False(t, report.Minimal)
	}
}

func TestParseJob(t *testing.T) {
	job, err := ParseJob("# restart\n\n  sudo -n /usr/bin/true \nselect 1\n")
	require.NoError(t, err)
	assert.Equal(t, []string{"sudo -n /usr/bin/true", "select 1"}, job)
	for text, words := range map[string]string{"": "no steps", "# x\n": "no steps", "a\n" + strings.Repeat("x", 4001): "line 2", "a\x00b": "line 1", strings.Repeat("a\n", 101): "101 steps"} {
		_, err := ParseJob(text)
		assert.ErrorContains(t, err, words)
	}
}
