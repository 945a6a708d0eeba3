package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/core/estate"
)

func TestPairs(t *testing.T) {
	list := []estate.Account{
		{Name: "svc_a", Groups: []string{"tides"}},
		{Name: "svc_b", Groups: []string{"tides"}},
		{Name: "fares1", Groups: []string{"fares"}},
		{Name: "fares2", Groups: []string{"fares", "SUPERUSER"}},
		{Name: "quay-blue"},
		{Name: "quay-green"},
		{Name: "crew_a", Groups: []string{"x"}},
		{Name: "ferry"},
		{Name: "data"},
	}
	pairs(list, map[string]int64{"fares1": 3})
	got := map[string]string{}
	for _, a := range list {
		got[a.Name] = a.Pair + ": " + a.PairNot
	}
	assert.Equal(t, map[string]string{
		"svc_a": "svc_b: ", "svc_b": "svc_a: ", "crew_a": ": ", "ferry": ": ", "data": ": ",
		"fares1":    "fares2: fares1 has fares, fares2 has fares, SUPERUSER; fares1 itself owns or was granted 3 objects, which the other is not",
		"fares2":    "fares1: fares1 has fares, fares2 has fares, SUPERUSER; fares1 itself owns or was granted 3 objects, which the other is not",
		"quay-blue": "quay-green: they are members of no role that could own for both", "quay-green": "quay-blue: they are members of no role that could own for both",
	}, got)
}
