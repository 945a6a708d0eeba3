package bench

import (
	"flag"
	"os"
	"testing"
)

// The sizes at which figures are taken. With -short each benchmark runs small:
// it tells nothing then, but that it still works.
var (
	entries       = 100_000 // of the directory
	manyFiles     = 200_000 // on the host that is searched
	searchSeeds   = 10      // hosts with other plants
	fleetHosts    = 200     // windows hosts
	largeHosts    = 2_000   // of the large estate
	largeAccounts = 20_000
	radiusNodes   = 10_000
	requestsEach  = 60
	rounds        = 5 // of a measurement; the median of their ratios counts
)

func TestMain(m *testing.M) {
	flag.Parse()
	if testing.Short() {
		entries, manyFiles, searchSeeds, fleetHosts = 2_000, 4_000, 1, 10
		largeHosts, largeAccounts, radiusNodes, requestsEach, rounds = 40, 400, 200, 5, 1
	}
	os.Exit(m.Run())
}
