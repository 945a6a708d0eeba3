package rotation_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	. "mossledger.example/moss/internal/core/rotation"
	. "mossledger.example/moss/internal/core/rotation/building"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
)

var update = flag.Bool("update", false, "write the plans anew: read what changed before committing it")

// readable is a plan as people read it: each step with what it waits for.
func readable(p Plan) string {
	var b strings.Builder
	refs := func(word string, list []int) string {
		if len(list) == 0 {
			return ""
		}
		var out []string
		for _, i := range list {
			out = append(out, fmt.Sprint(i))
		}
		return "  " + word + " " + strings.Join(out, " ")
	}
	for _, s := range p.Steps {
		fmt.Fprintf(&b, "%3d  %s%s%s", s.Index, s.Title(), refs("needs", s.Needs), refs("after", s.After))
		if s.Overlap {
			b.WriteString("  (beside the old one)")
		}
		if s.Check != nil {
			fmt.Fprintf(&b, "  check %s %s", s.Check.Kind, s.Check.Target)
		}
		if len(s.Along) > 0 {
			var names []string
			for _, a := range s.Along {
				names = append(names, a.Place)
			}
			b.WriteString("  along " + strings.Join(names, " "))
		}
		b.WriteString("\n")
	}
	b.WriteString("\nundone:\n")
	for i := len(p.Steps) - 1; i >= 0; i-- {
		fmt.Fprintf(&b, "%3d  %s\n", i, p.Steps[i].UndoTitle())
	}
	b.WriteString("\n")
	for _, n := range p.Notes {
		b.WriteString("- " + n.String() + "\n")
	}
	b.WriteString("- " + p.Interruption() + "\n")
	return b.String()
}

// envFile is a file with one copy.
func envFile(host, path string) File {
	return File{SystemID: host, System: host, Path: path, Places: []held.Locator{{Layout: "env", Key: "PASSWORD"}}}
}

func reader(host, name string, reads ...string) Unit {
	return Unit{SystemID: host, System: host, Name: name, Running: true, Reads: reads}
}

func serviceOn(host, name string, requires ...string) Unit {
	return Unit{SystemID: host, System: host, Kind: estate.DependentService, Name: name, Running: true, Requires: requires, After: requires}
}

func logOnOf(u Unit) LogOn {
	return LogOn{SystemID: u.SystemID, System: u.System, Place: u.Place(), Account: `LARKMOOR\svc-berth`, Was: `LARKMOOR\svc-berth`}
}

// situations are what plans are made for; each has its file under testdata.
func situations() map[string]Input {
	password := func(change func(*Input)) Input {
		in := passwordOf("svc-berth", "directory")
		change(&in)
		return in
	}
	key := func(doors int, change func(*Input)) Input {
		in := keyOpening(doors)
		change(&in)
		return in
	}
	replica := func(host string) Unit { return reader(host, "berth.service", "/etc/berth.env") }
	down := replica("quay1")
	down.Running = false
	brought := down
	brought.Start = true
	checked := replica("quay1")
	checked.Check = &AppCheck{Kind: "tcp", Target: "quay1.larkmoor.example:8080"}
	after := reader("quay1", "manifest.service", "/etc/manifest.env")
	after.After = []string{"berth.service"}
	needing := reader("quay1", "gangway.service")
	needing.Requires = []string{"berth.service"}
	circle := replica("quay1")
	circle.After = []string{"manifest.service"}
	db, berth, manifest := serviceOn("term1", "db"), serviceOn("term1", "berth", "db"), serviceOn("term1", "manifest", "berth")
	pool := Unit{SystemID: "term1", System: "term1", Kind: estate.DependentPool, Name: "passengers", Running: true}
	task := LogOn{SystemID: "term1", System: "term1", Place: Place{Kind: estate.DependentTask, Place: `\Larkmoor\Nightly`}, Account: `LARKMOOR\svc-berth`, Was: `LARKMOOR\svc-berth`}
	moved := logOnOf(berth)
	moved.Was, moved.WasID, moved.Moved = `LARKMOOR\svc-old`, "9", true
	from, to := time.Date(2026, 3, 1, 2, 0, 0, 0, time.UTC), time.Date(2026, 3, 1, 4, 0, 0, 0, time.UTC)
	earlier := envFile("quay1", "/etc/berth.env")
	earlier.Holds = "f1"
	return map[string]Input{
		"nothing-holds-it": password(func(*Input) {}),
		"one-file":         password(func(in *Input) { in.Files = []File{envFile("quay1", "/etc/berth.env")} }),
		"one-file-one-unit": password(func(in *Input) {
			in.Files = []File{envFile("quay1", "/etc/berth.env")}
			in.Units = []Unit{replica("quay1")}
		}),
		"a-check-of-its-own":  password(func(in *Input) { in.Files = []File{envFile("quay1", "/etc/berth.env")}; in.Units = []Unit{checked} }),
		"a-unit-that-is-down": password(func(in *Input) { in.Files = []File{envFile("quay1", "/etc/berth.env")}; in.Units = []Unit{down} }),
		"a-unit-brought-up":   password(func(in *Input) { in.Files = []File{envFile("quay1", "/etc/berth.env")}; in.Units = []Unit{brought} }),
		"two-places-in-one-file": password(func(in *Input) {
			f := envFile("quay1", "/etc/berth.env")
			f.Places = append(f.Places, held.Locator{Layout: "env", Key: "OTHER"})
			in.Files = []File{f}
		}),
		"an-acceptor": password(func(in *Input) {
			tab := envFile("quay1", "/etc/http.keytab")
			tab.Places = []held.Locator{{Layout: layout.KeyTab, Key: "HTTP/quay1.larkmoor.example@LARKMOOR.EXAMPLE", Part: held.PartValue}}
			in.Files = []File{envFile("quay1", "/etc/berth.env"), tab}
		}),
		"stopped-first": password(func(in *Input) {
			in.StopFirst = true
			in.Files = []File{envFile("quay1", "/etc/berth.env"), envFile("quay1", "/etc/manifest.env")}
			in.Units = []Unit{after, replica("quay1")}
		}),
		"first-one-alone": password(func(in *Input) {
			in.FirstAlone = true
			in.Files = []File{envFile("quay1", "/etc/berth.env"), envFile("quay1", "/etc/manifest.env"), envFile("quay2", "/etc/berth.env")}
			in.Units = []Unit{after, checked, replica("quay2")}
		}),
		"first-service-alone": password(func(in *Input) {
			in.FirstAlone = true
			in.LogOns = []LogOn{logOnOf(db), logOnOf(berth), logOnOf(manifest), task}
			in.Units = []Unit{db, berth, manifest}
		}),
		"in-windows": password(func(in *Input) {
			in.Windows, in.Window, in.AtWindowEnd = map[string]Openings{"nights": nights(3), "noons": noons(3)}, "nights", EndUndo
			in.Files = []File{envFile("quay1", "/etc/berth.env"), envFile("quay2", "/etc/berth.env")}
			in.Units = []Unit{replica("quay1"), replica("quay2")}
			in.Units[0].Window, in.Units[0].Expected, in.Units[1].Window = "nights", 90*time.Second, "noons"
		}),
		"a-replica-in-a-window": password(func(in *Input) {
			in.Windows = map[string]Openings{"nights": nights(3)}
			in.Files = []File{envFile("quay1", "/etc/berth.env"), envFile("quay2", "/etc/berth.env"), envFile("quay3", "/etc/berth.env")}
			in.Units = []Unit{replica("quay1"), replica("quay2"), replica("quay3")}
			in.Units[0].Window = "nights"
		}),
		"declared-order": password(func(in *Input) {
			in.Groups = map[string]int{"gauges": 2}
			in.Files = []File{envFile("quay1", "/etc/berth.env"), envFile("quay2", "/etc/berth.env"), envFile("quay3", "/etc/berth.env")}
			for i, host := range []string{"quay1", "quay2", "quay3"} {
				u := reader(host, fmt.Sprintf("gauge-%d.service", i), "/etc/berth.env")
				u.Kind, u.Groups = estate.DependentUnit, []string{"gauges"}
				in.Units = append(in.Units, u)
			}
			in.Units[0].Behind = []Unit{in.Units[2]}
		}),
		"start-order": password(func(in *Input) {
			in.Files = []File{envFile("quay1", "/etc/berth.env"), envFile("quay1", "/etc/manifest.env")}
			in.Units = []Unit{after, replica("quay1")}
		}),
		"start-order-is-a-circle": password(func(in *Input) {
			in.Files = []File{envFile("quay1", "/etc/berth.env"), envFile("quay1", "/etc/manifest.env")}
			in.Units = []Unit{after, circle}
		}),
		"a-unit-that-falls-with-it": password(func(in *Input) {
			in.Files = []File{envFile("quay1", "/etc/berth.env")}
			in.Units = []Unit{replica("quay1"), needing}
		}),
		"three-replicas": password(func(in *Input) {
			for _, host := range []string{"quay1", "quay2", "quay3"} {
				in.Files, in.Units = append(in.Files, envFile(host, "/etc/berth.env")), append(in.Units, replica(host))
			}
		}),
		"seven-files-one-barrier": password(func(in *Input) {
			in.Points[0].Overlap = true
			for i := range 7 {
				in.Files = append(in.Files, envFile(fmt.Sprintf("quay%d", i), "/etc/berth.env"))
			}
		}),
		"both-values-accepted": password(func(in *Input) {
			in.Points[0].Overlap = true
			in.Files, in.Units = []File{envFile("quay1", "/etc/berth.env")}, []Unit{replica("quay1")}
		}),
		"two-that-take-turns": password(func(in *Input) {
			in.Points[0].Overlap, in.Points[0].Next = true, "svc-berth2"
			in.Turn = &Successor{AccountID: "2", CredentialID: "2", Account: "svc-berth2", Credential: "svc-berth2"}
			in.Files, in.Units = []File{envFile("quay1", "/etc/berth.env")}, []Unit{replica("quay1"), serviceOn("north1", "Gangway")}
			in.LogOns = []LogOn{{SystemID: "north1", System: "north1", Place: in.Units[1].Place(), Account: "svc-berth2", Was: "svc-berth", WasID: "1", Moved: true}}
		}),
		"both-values-nothing-holds-it": password(func(in *Input) { in.Points[0].Overlap = true }),
		"we-sign-in-with-it": password(func(in *Input) {
			in.Stewards = []Steward{{SystemID: "directory", System: "directory", Name: "dir"}, {SystemID: "quay1", System: "quay1", Name: "hosts"}}
			in.Files = []File{envFile("quay1", "/etc/berth.env")}
		}),
		"we-sign-in-to-many": password(func(in *Input) {
			for i := range 6 {
				name := fmt.Sprintf("quay%d", i)
				in.Stewards = append(in.Stewards, Steward{SystemID: name, System: name, Name: "hosts"})
			}
			in.Files = []File{envFile("quay1", "/etc/berth.env")}
		}),
		"one-service":         password(func(in *Input) { in.LogOns, in.Units = []LogOn{logOnOf(berth)}, []Unit{berth} }),
		"a-chain-of-services": password(func(in *Input) { in.LogOns, in.Units = []LogOn{logOnOf(db)}, []Unit{manifest, berth, db} }),
		"a-chain-all-log-on": password(func(in *Input) {
			in.LogOns, in.Units = []LogOn{logOnOf(db), logOnOf(berth), logOnOf(manifest)}, []Unit{manifest, berth, db}
		}),
		"a-task-and-a-pool": password(func(in *Input) { in.LogOns, in.Units = []LogOn{task, logOnOf(pool)}, []Unit{pool} }),
		"files-and-services": password(func(in *Input) {
			in.Files, in.LogOns, in.Units = []File{envFile("quay1", "/etc/berth.env")}, []LogOn{logOnOf(berth)}, []Unit{replica("quay1"), berth}
		}),
		"restarts-in-a-window": password(func(in *Input) {
			in.When, in.NotBefore, in.NotAfter = RestartWindow, from, to
			in.Files, in.Units = []File{envFile("quay1", "/etc/berth.env")}, []Unit{replica("quay1")}
		}),
		"no-restarts": password(func(in *Input) {
			in.When = RestartLeave
			in.Files, in.Units = []File{envFile("quay1", "/etc/berth.env")}, []Unit{replica("quay1"), down}
		}),
		"an-hour-of-patience": password(func(in *Input) { in.Patience = time.Hour; in.Files = []File{envFile("quay1", "/etc/berth.env")} }),
		"assign-a-log-on":     password(func(in *Input) { in.Kind = KindAssign; in.LogOns, in.Units = []LogOn{moved}, []Unit{berth} }),
		"assign-an-old-copy":  password(func(in *Input) { in.Kind = KindAssign; in.Files, in.Units = []File{earlier}, []Unit{replica("quay1")} }),
		"assign-nothing-runs": password(func(in *Input) { in.Kind = KindAssign; in.LogOns = []LogOn{task} }),
		"assign-a-managed-account": password(func(in *Input) {
			in.Kind, in.Managed, in.FirstAlone = KindAssign, true, true
			in.LogOns, in.Units = []LogOn{moved, task}, []Unit{berth, pool}
		}),
		"key-one-door":      key(1, func(*Input) {}),
		"key-six-doors":     key(6, func(*Input) {}),
		"key-with-a-reader": key(2, func(in *Input) { in.Units = []Unit{reader("quay1", "backup.service", "/home/tide/.ssh/id")} }),
		"key-two-files-one-account": key(1, func(in *Input) {
			addDoor(in, "quay0", "/etc/ssh/keys/tide", "tide", "")
		}),
		"key-from-one-address-only": key(1, func(in *Input) { addDoor(in, "quay9", "/home/tide/.ssh/authorized_keys", "tide", "quay1") }),
		"key-nobody-knows-whom":     key(1, func(in *Input) { addDoor(in, "quay9", "/etc/ssh/keys/shared", "", "") }),
	}
}

// TestPlans holds every situation's plan against the text that people agreed on.
func TestPlans(t *testing.T) {
	folder := filepath.Join("testdata", "plans")
	kept := map[string]bool{}
	for name, in := range situations() {
		in.OnFailure = UndoOnFailure
		got := readable(Build(in))
		path := filepath.Join(folder, name+".txt")
		kept[name+".txt"] = true
		if *update {
			require.NoError(t, os.MkdirAll(folder, 0o755))
			require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
			continue
		}
		want, err := os.ReadFile(path)
		require.NoError(t, err, "%s: make it with 'go test ./internal/core/rotation -run TestPlans -update', and read it", name)
		assert.Equal(t, string(want), got, name)
	}
	list, err := os.ReadDir(folder)
	require.NoError(t, err)
	for _, f := range list {
		assert.True(t, kept[f.Name()], "%s belongs to no situation", f.Name())
	}
}

func passwordOf(account, authority string) Input {
	return Input{CredentialID: "1", Credential: account, Of: credential.Password, Points: []Point{{SystemID: authority, System: authority, Account: account}}, Authority: authority}
}

// keyOpening is a key that one file on quay1 holds.
func keyOpening(doors int) Input {
	in := Input{CredentialID: "2", Credential: "backup@quay1", Of: credential.SSHKey, Authority: "quays"}
	in.Files = []File{{SystemID: "quay1", System: "quay1", Path: "/home/tide/.ssh/id", Places: []held.Locator{{Layout: layout.PEM}}}}
	for i := range doors {
		addDoor(&in, fmt.Sprintf("quay%d", i), "/home/tide/.ssh/authorized_keys", "tide", "")
	}
	return in
}

func addDoor(in *Input, host, path, account, via string) {
	in.Points = append(in.Points, Point{SystemID: host, System: host, Path: path, Account: account, Via: via, Overlap: true})
}

// A step of a kind that this version does not know is not told as one that it
// knows.
func TestAnUnknownStepIsNotTakenForAnother(t *testing.T) {
	s := Step{Kind: "anoint", Subject: "svc-berth", System: "larkmoor-directory"}
	for _, title := range []string{s.Title(), s.UndoTitle()} {
		require.Equal(t, "anoint (not known to this version) svc-berth on larkmoor-directory", title)
	}
}
