package credential

import (
	"crypto/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/secret"
)

// A new password is what the system, whoever asks and every holder can take; what nothing
// can be is told with who asks for what.
func TestLimits(t *testing.T) {
	till, gauge := Limit{Of: "till.service on till1", Longest: 16}, Limit{Of: "gauge.ini on tide1", Without: "~._"}
	for name, v := range map[string]struct {
		wanted Wanted
		length int // 0 for none
		words  string
	}{
		"none":                      {Wanted{}, 32, ""},
		"a short field":             {Wanted{Limits: []Limit{till}}, 16, ""},
		"the shortest counts":       {Wanted{Limits: []Limit{{Of: "x", Longest: 20}, till, {Of: "y", Longest: 40}}}, 16, ""},
		"the system's is shorter":   {Wanted{Longest: 14, Limits: []Limit{till}}, 14, ""},
		"a long field":              {Wanted{Limits: []Limit{{Of: "x", Longest: 200}}}, 32, ""},
		"shorter is asked for":      {Wanted{Length: 14, Limits: []Limit{till}}, 14, ""},
		"characters":                {Wanted{Limits: []Limit{gauge}}, 32, ""},
		"characters of several":     {Wanted{Without: "-", Limits: []Limit{gauge}}, 32, ""}, // three classes are left
		"longer is asked for":       {Wanted{Length: 20, Limits: []Limit{till}}, 0, "20 characters are asked for, and till.service on till1 takes at most 16"},
		"the system wants longer":   {Wanted{Shortest: 20, Limits: []Limit{till}}, 0, "the system takes at least 20 characters, and till.service on till1 at most 16"},
		"too short to be safe":      {Wanted{Limits: []Limit{{Of: "old on quay1", Longest: 8}}}, 0, "old on quay1 takes at most 8 characters: fewer than are safe"},
		"too few characters":        {Wanted{Limits: []Limit{{Of: "old on quay1", Without: secret.Lower + "-"}, gauge}}, 0, "(old on quay1, gauge.ini on tide1) fewer than three"},
		"few, and too short":        {Wanted{Limits: []Limit{{Of: "old on quay1", Longest: 12, Without: "-_.~" + secret.Upper[4:] + secret.Lower[4:]}}}, 0, "(old on quay1) have about"},
		"the system's own, as ever": {Wanted{Longest: 10}, 0, "length 10 is outside"},
	} {
		made, err := makePassword(v.wanted, rand.Reader)
		if v.length == 0 {
			require.Error(t, err, name)
			assert.ErrorContains(t, err, v.words, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Len(t, made.RevealString(), v.length, name)
		for _, l := range v.wanted.Limits {
			assert.Empty(t, l.Refuses(made), name)
		}
		assert.False(t, strings.ContainsAny(made.RevealString(), v.wanted.Without), name)
	}
	assert.Contains(t, till.Refuses(secret.New("seventeen-letters")), "17 characters, and till.service on till1 takes at most 16")
	assert.NotContains(t, gauge.Refuses(secret.New("a~b")), "~", "which one says something of the value")
	assert.NotEmpty(t, gauge.Refuses(secret.New("a~b")))
	assert.Len(t, Holders([]Limit{till, gauge, till, {Of: "nothing"}}), 2)
}
