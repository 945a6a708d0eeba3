package posix

import (
	"fmt"
	"math/rand"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var names = Names{User: func(n string) string { return "u" + n }, Group: func(n string) string { return "g" + n }, Everyone: "all"}

// The list that is made says the same as the algorithm, for every account.
func TestListSaysWhatTheAlgorithmSays(t *testing.T) {
	var accounts []Account
	for uid := range 5 {
		a := Account{ID: fmt.Sprint("u", uid), UID: fmt.Sprint(uid)}
		for gid := range 3 {
			if uid>>gid&1 == 1 {
				a.GIDs = append(a.GIDs, fmt.Sprint(gid))
			}
		}
		accounts = append(accounts, a)
	}
	for seed := range int64(5000) {
		r := rand.New(rand.NewSource(seed))
		node := func(name string) Node {
			n := FromMode(name, fmt.Sprint(r.Intn(5)), fmt.Sprint(r.Intn(3)), r.Intn(512))
			if r.Intn(2) == 0 {
				n.Users, n.Groups, n.Mask = map[string]int{}, map[string]int{}, r.Intn(8)
				for i := range 5 {
					if r.Intn(3) == 0 {
						n.Users[fmt.Sprint(i)] = r.Intn(8)
					}
				}
				for i := range 3 {
					if r.Intn(3) == 0 {
						n.Groups[fmt.Sprint(i)] = r.Intn(8)
					}
				}
			}
			return n
		}
		way := []Node{node("/"), node("/srv"), node("/srv/x")}
		for _, bit := range []int{Read, Write} {
			l := List(way, bit, accounts, names)
			for _, a := range accounts {
				if a.UID == "0" {
					continue // who has all by himself
				}
				want := Reaches(way, a, bit)
				got := false
				for _, e := range l.Entries { // the first that is about it
					if e.To == a.ID || e.To == "all" || slices.ContainsFunc(a.GIDs, func(g string) bool { return e.To == "g"+g }) {
						got = !e.Deny
						break
					}
				}
				require.Equal(t, want, got, "seed %d, %s, bit %d: %+v", seed, a.ID, bit, l.Entries)
			}
		}
	}
}

func TestParseACL(t *testing.T) {
	got, err := ParseACL("# file: srv/odd\\040name\n# owner: 0\n# group: 5\n# flags: -s-\nuser::rw-\nuser:1000:rwx\t#effective:r--\ngroup::r-x\ngroup:7:-w-\nmask::r--\nother::---\ndefault:user::rwx\n\n# file: /a\n# owner: 1\n# group: 1\nuser::r--\ngroup::---\nother::--t\n")
	require.NoError(t, err)
	assert.Equal(t, Node{Path: "srv/odd name", UID: "0", GID: "5", Owner: 6, Group: 5, Other: 0, Mask: 4, Users: map[string]int{"1000": 7}, Groups: map[string]int{"7": 2}}, got["srv/odd name"])
	assert.Equal(t, 1, got["/a"].Other)
	for _, text := range []string{"user::rw-\n", "# file: a\nuser::rw\n", "# file: a\nwho::rwx\n", "# file: a\nuser:a\n", "# file: a\nuser::zzz\n"} {
		_, err := ParseACL(text)
		assert.Error(t, err, text)
	}
	assert.Equal(t, []string{"/", "/srv", "/srv/x"}, Way("/srv/x"))
}

func FuzzParseACL(f *testing.F) {
	f.Add("# file: a\nuser::rw-\n")
	f.Fuzz(func(t *testing.T, text string) {
		nodes, err := ParseACL(text)
		if err != nil {
			return
		}
		for _, n := range nodes {
			List([]Node{n}, Read, []Account{{ID: "u1", UID: "1"}}, names)
		}
	})
}
