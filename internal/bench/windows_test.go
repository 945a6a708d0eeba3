package bench

import (
	"context"
	"fmt"
	"math"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	_ "mossledger.example/moss/internal/connect/winhost"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/assembly"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/windowshost"
)

// callLatency is how long a stand-in host waits before each answer.
const callLatency = 20 * time.Millisecond

const fleetPassword = "Fleet-Of-Two-Hundred-1"

// domain checks passwords against a stand-in directory in this process.
type domain struct{ server *directory.Server }

func (d domain) SignIn(account, password string) windowshost.Answer {
	if d.server.Accepts(account, password) {
		return windowshost.Accepted
	}
	return windowshost.Wrong
}

func (domain) Exists(string) bool { return true }

// fleet starts hosts with 300 services each; two of each log on as svc-fleet.
// A service of one name stands on twenty hosts.
func fleet(b *testing.B, o *assembly.Application, n int) []*windowshost.Host {
	authority, err := standin.NewAuthority()
	require.NoError(b, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(b, err)
	server := directory.New(directory.Config{Base: larkmoor.Base, NetBIOS: "LARKMOOR", Windows: true, TLS: config})
	for name, password := range map[string]string{"mossmgr": larkmoor.ManagerPassword, "svc-fleet": fleetPassword} {
		server.Add(directory.Entry{DN: larkmoor.DN(name), Password: password, Admin: name == "mossmgr", Never: true, Attributes: map[string][]string{"objectClass": {"top", "person", "organizationalPerson", "user"}, "sAMAccountName": {name}, "cn": {name}}})
	}
	address, err := server.Serve("127.0.0.1:0")
	require.NoError(b, err)
	b.Cleanup(func() { require.NoError(b, server.Close()) })
	name, port := larkmoor.Port(address)
	add(b, o, "directory", larkmoor.DN("mossmgr"), secret.New(larkmoor.ManagerPassword), secret.Value{}, records.System{Name: "directory", Kind: "directory", Address: name, Port: port, TrustedCA: authority.PEM}, "")
	var hosts []*windowshost.Host
	for i := range n {
		h := windowshost.New(windowshost.Config{Name: fmt.Sprintf("TERM%03d", i), Domain: "larkmoor.example", NetBIOS: "LARKMOOR", TLS: config, Basic: true, Authority: domain{server}, Responses: server, Admins: []string{`LARKMOOR\mossmgr`}})
		for k := range 298 - 5 {
			h.AddService(windowshost.Service{Name: fmt.Sprintf("Filler%03d", k), Display: fmt.Sprintf("Filler service %d", k), Description: "Stands for the many services that a host has and nobody looks at", Path: `C:\Windows\System32\svchost.exe -k filler -p`, Account: "LocalSystem", Mode: windowshost.Manual, Idle: k%2 == 0, Shared: true})
		}
		for _, half := range []string{"Gate", "Till"} {
			h.AddService(windowshost.Service{Name: fmt.Sprintf("%s%02d", half, i/20), Account: `LARKMOOR\svc-fleet`, Password: fleetPassword})
		}
		h.SetFault(windowshost.Fault{Latency: callLatency})
		address, err := h.Serve("127.0.0.1:0")
		require.NoError(b, err)
		b.Cleanup(func() { require.NoError(b, h.Close()) })
		hosts = append(hosts, h)
		name, port := larkmoor.Port(address)
		add(b, o, "hosts", `LARKMOOR\mossmgr`, secret.New(larkmoor.ManagerPassword), secret.Value{}, records.System{Name: strings.ToLower(h.Name), Kind: "windows-host", Address: name, Port: port, TrustedCA: authority.PEM, Options: map[string]string{"signin": "ntlm"}}, "")
	}
	return hosts
}

func calls(hosts []*windowshost.Host) int {
	n := 0
	for _, h := range hosts {
		n += h.Calls("")
	}
	return n
}

// BenchmarkWindowsSurvey reads 200 hosts with 300 services each. The floor is
// what the calls that were made must wait for, with that many visits at the
// same time; the goal is at most 1.5 times that.
func BenchmarkWindowsSurvey(b *testing.B) {
	o := newOperator(b)
	hosts := fleet(b, o, fleetHosts)
	for range b.N {
		before := calls(hosts)
		took := survey(b, o, fleetHosts)
		made := calls(hosts) - before
		floor := time.Duration(math.Ceil(float64(len(hosts))/float64(o.Surveys.Parallel()))) * time.Duration(made/len(hosts)) * callLatency
		first := took.Seconds() / floor.Seconds()
		before = calls(hosts)
		again := survey(b, o, fleetHosts)
		floor = time.Duration(math.Ceil(float64(len(hosts))/float64(o.Surveys.Parallel()))) * time.Duration((calls(hosts)-before)/len(hosts)) * callLatency
		b.ReportMetric(first, "first/floor")
		b.ReportMetric(again.Seconds()/floor.Seconds(), "again/floor")
		b.ReportMetric(float64(o.Surveys.Parallel()), "visits-at-once")
		b.ReportMetric(float64(made)/float64(len(hosts)), "calls/host")
		b.ReportMetric(took.Seconds(), "s-first")
	}
}

// BenchmarkWindowsSurveyMemory tells by how much the live heap grows while 20
// and 200 hosts are surveyed: what a garbage collection in the middle leaves.
func BenchmarkWindowsSurveyMemory(b *testing.B) {
	for _, n := range []int{fleetHosts / 10, fleetHosts} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			o := newOperator(b)
			hosts := fleet(b, o, n)
			survey(b, o, n) // connections and statements are there
			var m runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&m)
			base, most := m.HeapAlloc, m.HeapAlloc
			done := make(chan struct{})
			go func() { survey(b, o, n); close(done) }()
			for over := false; !over; {
				select {
				case <-done:
					over = true
				case <-time.After(100 * time.Millisecond):
					runtime.GC()
					runtime.ReadMemStats(&m)
					most = max(most, m.HeapAlloc)
				}
			}
			b.ReportMetric(float64(most-base)/(1<<20), "MiB-more")
			runtime.KeepAlive(hosts)
		})
	}
}

// BenchmarkWindowsRotation changes one account that 400 services on 200 hosts
// log on as. The longest chain is that of the steps that had to follow one
// another, with the time that each took in this run; the goal is at most 1.3
// times that.
func BenchmarkWindowsRotation(b *testing.B) {
	o := newOperator(b)
	hosts := fleet(b, o, fleetHosts)
	survey(b, o, fleetHosts)
	ctx := context.Background()
	a, _, err := o.Picture.FindAccount(ctx, "directory/svc-fleet")
	require.NoError(b, err)
	_, err = o.Custody.Take(ctx, bench, cred(o, a), secret.New(fleetPassword))
	require.NoError(b, err)
	for range b.N {
		wish := planning.Request{OnFailure: rotation.StopOnFailure}
		began := time.Now()
		rehearsal, err := o.Rotations.Rehearse(ctx, bench, cred(o, a), wish)
		require.NoError(b, err)
		require.Equal(b, "passed", rehearsal.Verdict)
		rehearsed := time.Since(began)
		id, err := o.Rotations.Start(ctx, bench, cred(o, a), wish, "bench", "")
		require.NoError(b, err)
		var state rotation.State
		var records []rotation.Record
		wake, letGo := o.Base.Topics.Listen(app.RotationTopic(id))
		for state.Mode != rotation.ModeFinished && state.Mode != rotation.ModeStopped {
			select {
			case <-wake:
			case <-time.After(time.Second):
			}
			_, state, records, err = o.Rotations.State(ctx, id)
			require.NoError(b, err)
		}
		letGo()
		require.Equal(b, rotation.FinishedDone, state.Result)
		took := records[len(records)-1].Time.Sub(records[0].Time)
		b.ReportMetric(took.Seconds()/longest(state.Plan, records).Seconds(), "rotation/chain")
		b.ReportMetric(took.Seconds(), "s-rotation")
		b.ReportMetric(rehearsed.Seconds(), "s-rehearsal")
		for i, h := range hosts {
			_, stored := h.Uses(fmt.Sprintf("Gate%02d", i/20))
			require.NotEqual(b, fleetPassword, stored, "%s runs on the new password", h.Name)
		}
	}
}

// longest is the time of the longest chain of steps.
func longest(plan rotation.Plan, records []rotation.Record) time.Duration {
	begun := map[int]time.Time{}
	took := map[int]time.Duration{}
	for _, r := range records {
		switch r.Event {
		case rotation.EventIntent:
			begun[r.Step] = r.Time
		case rotation.EventOutcome:
			took[r.Step] += r.Time.Sub(begun[r.Step])
		}
	}
	until := make([]time.Duration, len(plan.Steps))
	var most time.Duration
	for i, s := range plan.Steps {
		for _, j := range append(append([]int(nil), s.Needs...), s.After...) {
			until[i] = max(until[i], until[j])
		}
		until[i] += took[i]
		most = max(most, until[i])
	}
	return most
}
