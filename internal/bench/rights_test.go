package bench

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
	"mossledger.example/moss/internal/records"
)

// largeEstate is a directory of objects with memberships, groups twelve levels deep, with
// circles.
func largeEstate(objects, edges int) (principals []privilege.Principal, memberships []privilege.Membership) {
	random := rand.New(rand.NewPCG(1, 2))
	groups, levels := objects/5, 12
	accounts, per := objects-groups, objects/5/12
	name := func(kind string, i int) string { return fmt.Sprint(kind, i) }
	for i := range accounts {
		principals = append(principals, privilege.Principal{ID: name("u", i), Kind: privilege.KindAccount, Name: name("u", i)})
	}
	for i := range groups {
		principals = append(principals, privilege.Principal{ID: name("g", i), Kind: privilege.KindGroup, Name: name("g", i)})
		for range 2 {
			if level := i / per; level < levels-1 {
				memberships = append(memberships, privilege.Membership{Member: name("g", i), Group: name("g", (level+1)*per+random.IntN(per))})
			}
		}
		if i%97 == 0 {
			memberships = append(memberships, privilege.Membership{Member: name("g", i), Group: name("g", random.IntN(i+1))})
		}
	}
	for i := 0; len(memberships) < edges; i++ {
		memberships = append(memberships, privilege.Membership{Member: name("u", i%accounts), Group: name("g", random.IntN(groups))})
	}
	return principals, memberships
}

// BenchmarkMembership works out in which groups everybody is: 100,000 objects with a million
// memberships. The goal is three seconds and a gibibyte.
func BenchmarkMembership(b *testing.B) {
	objects, edges := 100_000, 1_000_000
	if testing.Short() {
		objects, edges = 2_000, 10_000
	}
	principals, memberships := largeEstate(objects, edges)
	for b.Loop() {
		begun := time.Now()
		g := privilege.NewGraph(principals, memberships)
		total := 0
		g.Each([]privilege.Kind{privilege.KindAccount, privilege.KindGroup}, func(_ privilege.Principal, in privilege.Set) { total += in.Len() })
		took := time.Since(begun)
		var memory runtime.MemStats
		runtime.ReadMemStats(&memory)
		require.Greater(b, total, edges/2)
		fmt.Printf("%d objects, %d memberships: %v for all, %d groups each; %d MiB in use\n", objects, edges, took.Round(time.Millisecond), total/objects, memory.HeapInuse>>20)
		b.ReportMetric(took.Seconds(), "s/all")
		b.ReportMetric(float64(memory.HeapInuse>>20), "MiB")
	}
}

// BenchmarkRightsSurvey surveys an OpenLDAP directory with rights and without, each first
// and again.
func BenchmarkRightsSurvey(b *testing.B) {
	d := lab.OpenLDAP(b, "127.0.0.63", 636, 0, entries)
	for b.Loop() {
		took := map[string][]float64{}
		for range rounds {
			for _, rights := range []string{"off", "on"} {
				o := newOperator(b)
				add(b, o, "dir", d.Manager, secret.New(lab.ManagerPassword), secret.Value{}, records.System{Name: "openldap", Kind: "directory", Address: d.Address, Port: d.Port, TrustedCA: d.CA, Options: map[string]string{"rights": rights}}, "")
				took["first "+rights] = append(took["first "+rights], survey(b, o, entries).Seconds())
				took["again "+rights] = append(took["again "+rights], survey(b, o, entries).Seconds())
			}
		}
		first, again := median(took["first on"])/median(took["first off"]), median(took["again on"])/median(took["again off"])
		fmt.Printf("directory of %d entries, %d rounds: a first survey with rights takes %.2f times one without (%.2f s), one again %.2f times (%.2f s)\n", entries, rounds, first, median(took["first off"]), again, median(took["again off"]))
		b.ReportMetric(first, "first-on/off")
		b.ReportMetric(again, "again-on/off")
	}
}
