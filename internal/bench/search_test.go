package bench

import (
	"context"
	"fmt"
	"os"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/assembly"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
	"mossledger.example/moss/internal/lab/plant"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// Of the search for copies.
const (
	plantsPerSeed   = 200
	certainStrength = "matches beside differs ambiguous same value"
)

// ferries starts a directory with the planted accounts and adds it.
func ferries(b *testing.B, o *assembly.Application, accounts []plant.Account) {
	authority, err := standin.NewAuthority()
	require.NoError(b, err)
	config, err := authority.Server("127.0.0.1", "directory.larkmoor.example")
	require.NoError(b, err)
	d := directory.New(directory.Config{Base: larkmoor.Base, NetBIOS: "LARKMOOR", Windows: true, MinLen: 8, TLS: config})
	add1 := func(ou, name, password string, admin bool) {
		d.Add(directory.Entry{DN: "CN=" + name + ",OU=" + ou + "," + larkmoor.Base, Password: password, Admin: admin, Attributes: map[string][]string{
			"objectClass": {"top", "person", "organizationalPerson", "user"}, "sAMAccountName": {name}, "cn": {name}, "userPrincipalName": {name + "@larkmoor.example"},
		}})
	}
	add1("Service Accounts", larkmoor.Manager, larkmoor.ManagerPassword, true)
	for _, a := range accounts {
		add1("Services", a.Name, a.Password, false)
	}
	address, err := d.Serve("127.0.0.1:0")
	require.NoError(b, err)
	b.Cleanup(func() { require.NoError(b, d.Close()) })
	host, port := larkmoor.Port(address)
	add(b, o, "dir", "CN="+larkmoor.Manager+",OU=Service Accounts,"+larkmoor.Base, secret.New(larkmoor.ManagerPassword), secret.Value{}, records.System{Name: "dir", Kind: "directory", Address: host, Port: port, TrustedCA: authority.PEM}, "")
}

// BenchmarkSearch plants credentials and decoys into the file systems of real
// hosts and measures how much of it a survey finds, and how much that is none.
func BenchmarkSearch(b *testing.B) {
	plants, hit, told, wrong := 0, 0, 0, 0
	keysPlanted, keysHit, keysWrong := 0, 0, 0
	for seed := uint64(1); seed <= uint64(searchSeeds); seed++ {
		b.Run(fmt.Sprintf("seed%d", seed), func(b *testing.B) {
			planting := plant.Seeded(seed, plantsPerSeed)
			h := lab.NewHost(b, fmt.Sprintf("search%d", seed), 60)
			for _, f := range planting.Files {
				h.Write(b, f.Path, string(f.Content), os.FileMode(f.Mode))
			}
			h.Boot(b)
			o := newOperator(b)
			ferries(b, o, planting.Accounts)
			add(b, o, "search", "mossmgr", secret.Value{}, h.Key, records.System{Name: "search", Kind: "unix-host", Address: h.Address, Port: 22}, h.Fingerprint())
			survey(b, o, 10)
			ctx := context.Background()
			for _, a := range planting.Accounts {
				if a.Custody {
					account, _, err := o.Picture.FindAccount(ctx, "dir/"+a.Name)
					require.NoError(b, err)
					_, err = o.Custody.Take(ctx, bench, cred(o, account), secret.New(a.Password))
					require.NoError(b, err)
				}
			}
			took := survey(b, o, 10)
			found := map[string]bool{}
			false1 := 0
			truth := map[string]string{}
			for _, t := range planting.Truth {
				truth[t.Path+" "+t.Account] = t.Format
			}
			v, err := o.Store.System(ctx, "search")
			require.NoError(b, err)
			dependents, err := o.Store.DependentsOfSystem(ctx, v.ID)
			require.NoError(b, err)
			var misses []string
			planted := map[string]string{}
			for _, k := range planting.Keys {
				planted[k.Path+" "+k.Name] = k.Format
			}
			n, false2 := 0, 0
			for _, d := range dependents {
				if d.Key == nil || d.Kind == "certificate" {
					continue
				}
				key := d.Path + " " + d.Key.Fingerprint + d.Key.Principal
				switch {
				case planted[key] != "":
					n++
					delete(planted, key)
				case !strings.Contains(d.Path, "mossmgr"): // our own log-on
					false2++
					misses = append(misses, "no such key was planted: "+d.Place)
				}
			}
			for key, format := range planted {
				misses = append(misses, fmt.Sprintf("missed: %s (%s)", key, format))
			}
			keysPlanted, keysHit, keysWrong = keysPlanted+len(planting.Keys), keysHit+n, keysWrong+false2
			for _, d := range dependents {
				if d.Key != nil { // told above
					continue
				}
				for _, t := range d.Ties {
					if t.Evidence != "held" || !strings.Contains(certainStrength, t.Strength) {
						continue
					}
					key := d.Path + " " + t.Account
					told++
					if truth[key] == "" {
						false1++
						misses = append(misses, fmt.Sprintf("wrong: %s is tied to %s (%s)", d.Place, t.Account, t.Strength))
					}
					found[key] = true
				}
			}
			n = 0
			for key, format := range truth {
				if found[key] {
					n++
				} else {
					misses = append(misses, fmt.Sprintf("missed: %s (%s)", key, format))
				}
			}
			sort.Strings(misses)
			fmt.Printf("seed %d: %d plants and %d decoys in %d files; %d found, %d wrong; survey %v\n", seed, len(truth), planting.Decoys, len(planting.Files), n, false1, took.Round(time.Millisecond))
			for _, m := range misses {
				fmt.Println("   ", m)
			}
			plants, hit, wrong = plants+len(truth), hit+n, wrong+false1
		})
	}
	recall, precision := float64(hit)/float64(plants), 1-float64(wrong)/float64(max(1, told))
	fmt.Printf("%d plants over %d seeds: recall %.4f, precision %.4f\n", plants, searchSeeds, recall, precision)
	fmt.Printf("%d keys, entries and key tabs: %d found, %d wrong\n", keysPlanted, keysHit, keysWrong)
	if keysHit < keysPlanted || keysWrong > 0 {
		b.Errorf("%d of %d keys found, %d wrong", keysHit, keysPlanted, keysWrong)
	}
	b.ReportMetric(recall, "recall")
	b.ReportMetric(precision, "precision")
	if recall < 1 || precision < 0.99 {
		b.Errorf("recall %.4f or precision %.4f is below its goal", recall, precision)
	}
}
