package postgres

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/estate"
)

// PostgreSQL keeps one password for a role. Where a program must never be
// without a valid one, two roles take turns: both are members of the role that
// owns and may, neither owns or may anything itself, and while one is in use the
// other gets its next password.

var twin = regexp.MustCompile(`^(.*?)[_-]?(a|b|1|2|one|two|blue|green|odd|even)$`)

var other = map[string]string{"a": "b", "1": "2", "one": "two", "blue": "green", "odd": "even"}

// pairs finds roles that may take each other's place, by their names, and says
// what is in the way. own is what each role owns or was granted itself.
func pairs(list []estate.Account, own map[string]int64) {
	at := map[string]int{}
	for i, a := range list {
		at[a.Name] = i
	}
	for i, a := range list {
		m := twin.FindStringSubmatch(a.Name)
		if m == nil || other[m[2]] == "" {
			continue
		}
		j, found := at[strings.TrimSuffix(a.Name, m[2])+other[m[2]]]
		if !found {
			continue
		}
		why := inTheWay(list[i], list[j], own)
		list[i].Pair, list[i].PairNot = list[j].Name, why
		list[j].Pair, list[j].PairNot = list[i].Name, why
	}
}

func inTheWay(a, b estate.Account, own map[string]int64) string {
	var out []string
	switch {
	case len(a.Groups) == 0:
		out = append(out, "they are members of no role that could own for both")
	case !slices.Equal(a.Groups, b.Groups):
		out = append(out, fmt.Sprintf("%s has %s, %s has %s", a.Name, strings.Join(a.Groups, ", "), b.Name, strings.Join(b.Groups, ", ")))
	}
	for _, role := range []estate.Account{a, b} {
		if n := own[role.Name]; n > 0 {
			out = append(out, fmt.Sprintf("%s itself owns or was granted %d objects, which the other is not", role.Name, n))
		}
	}
	return strings.Join(out, "; ")
}
