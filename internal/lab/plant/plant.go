// Package plant makes files with credentials in them, and files that only look
// so, from a seed: the same seed gives the same files. What was planted is
// listed beside them, so that a search can be measured against the truth. The
// files are written by serializers of their own, not by those of the product.
package plant

import (
	"fmt"
	"math/rand/v2"
	"path"
	"strings"
)

// Account is somebody whose password is planted.
type Account struct {
	Name, Password string
	Custody        bool // its value will be known to the search
}

// File is one file.
type File struct {
	Path    string
	Content []byte
	Mode    uint32
}

// Truth is one credential that stands in a file.
type Truth struct {
	Path, Account, Format string
}

// Planting is what a seed gives.
type Planting struct {
	Seed     uint64
	Accounts []Account
	Files    []File
	Truth    []Truth
	Keys     []Key
	Decoys   int
}

// keyEvery is how many credentials there are for one key.
const keyEvery = 10

// Seeded plants n credentials, and about as many decoys.
func Seeded(seed uint64, n int) Planting {
	g := &grower{Rand: rand.New(rand.NewPCG(seed, 20261123)), used: map[string]bool{}}
	p := Planting{Seed: seed}
	for i, word := range []string{"berth", "tidefeed", "manifest", "gangway", "fuelcard", "tide", "crew", "buoy", "harbour", "lamp", "winch", "kiosk"} {
		p.Accounts = append(p.Accounts, Account{Name: "svc-" + word, Password: g.password(), Custody: i%4 != 3})
	}
	for len(p.Truth) < n {
		f := formats[g.IntN(len(formats))]
		a := p.Accounts[g.IntN(len(p.Accounts))]
		if f.knownOnly && !a.Custody {
			continue
		}
		spelled := a.Name
		if f.spellings && g.IntN(3) == 0 {
			spelled = []string{a.Name + "@larkmoor.example", `LARKMOOR\` + a.Name, "CN=" + a.Name + ",OU=Services,DC=larkmoor,DC=example"}[g.IntN(3)]
		}
		file := File{Path: g.place(f.file), Mode: []uint32{0o600, 0o640, 0o644}[g.IntN(3)]}
		file.Content = g.dress(f, f.write(g, spelled, a.Password))
		p.Files = append(p.Files, file)
		p.Truth = append(p.Truth, Truth{Path: file.Path, Account: a.Name, Format: f.name})
		for g.IntN(2) == 0 {
			p.Files = append(p.Files, g.decoy(a, p.Accounts))
			p.Decoys++
		}
	}
	files, keys := g.keys(n / keyEvery)
	p.Files, p.Keys = append(p.Files, files...), keys
	return p
}

type grower struct {
	*rand.Rand
	used map[string]bool
}

// password has the characters that directories ask for and files stumble over.
func (g *grower) password() string {
	const letters, hard = "abcdefghijkmnopqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789", "!%&()*+,-./:<=>?@[]^_{|}~$'\"\\"
	var out strings.Builder
	out.WriteByte(letters[g.IntN(len(letters))])
	for i := range 14 + g.IntN(12) {
		if i%5 == 4 {
			out.WriteByte(hard[g.IntN(len(hard))])
		} else {
			out.WriteByte(letters[g.IntN(len(letters))])
		}
	}
	out.WriteByte(letters[g.IntN(len(letters))])
	return out.String()
}

var (
	apps   = []string{"berth", "tides", "crewlist", "fares", "lamps", "ledger", "quay", "signals", "weather", "winch"}
	places = []string{"/etc/%s", "/opt/%s/conf", "/srv/%s", "/srv/%s/config/production", "/var/www/%s", "/usr/local/etc/%s", "/home/%s", "/root/%s", "/var/lib/%s", "/opt/%s/releases/12/config", "/data/%s"}
)

// place finds a new path for a file of that name; one with a path of its own
// keeps it.
func (g *grower) place(name string) string {
	for n := 0; ; n++ {
		app := apps[g.IntN(len(apps))]
		if n > 0 {
			app += fmt.Sprintf("-%d", g.IntN(1000))
		}
		p := name
		if strings.Contains(name, "%s") {
			p = fmt.Sprintf(name, app)
		} else if !path.IsAbs(name) {
			p = path.Join(fmt.Sprintf(places[g.IntN(len(places))], app), name)
		}
		if !g.used[p] {
			g.used[p] = true
			return p
		}
	}
}

// dress varies what does not matter: line ends, a byte order mark, comments.
func (g *grower) dress(f format, content string) []byte {
	if f.comment != "" && g.IntN(2) == 0 {
		content = f.comment + " kept by hand, ask the harbour office\n" + content
	}
	if f.lineEnds && g.IntN(4) == 0 {
		content = strings.ReplaceAll(content, "\n", "\r\n")
	}
	if f.mark && g.IntN(6) == 0 {
		content = "\xef\xbb\xbf" + content
	}
	return []byte(content)
}
