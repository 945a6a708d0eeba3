package e2e

import (
	"context"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/demo"
)

// startDemo runs the demonstration estate with a service that is set up and
// has surveyed it.
func startDemo(t testing.TB) (*demo.Demo, *user) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	d, err := demo.Start(ctx, demo.Options{Binary: binary, Folder: t.TempDir() + "/demo", Listen: "127.0.0.1:0"})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	require.NoError(t, d.Prepare(ctx))
	return d, &user{d.Process, t}
}

// TestConsole goes through the console as a person would, on the
// demonstration estate; every page is checked for accessibility, light and dark.
func TestConsole(t *testing.T) {
	d, u := startDemo(t)
	b := newBrowser(t, d.URL)

	b.open("/accounts?f=name~svc-", "Sign in")
	b.accessible("sign-in")
	b.shot("sign-in")
	b.fill("input[autocomplete=username]", demo.UserName)
	b.fill("input[type=password]", "not the password")
	b.press("Sign in")
	b.see("the name or the password is wrong")
	b.fill("input[type=password]", demo.UserPassword)
	b.press("Sign in")
	b.see("svc-berth") // where one wanted to go, with the filter
	b.see("Name contains svc-")

	account := fmt.Sprint(u.rows("account", "list", "--filter", "name=svc-berth")[0]["id"])
	b.page("/systems", "bokings1", "systems")
	b.page("/systems/dock9", "Latest attempt", "system")
	b.page("/accounts?f=name~svc-&sort=-dependents", "svc-fuelcard", "accounts")
	b.page("/dependents?f=kind=file", "backup.env", "dependents")
	b.page("/surveys", "Survey all systems", "surveys")
	b.page("/surveys/1", "no such host", "survey")
	b.page("/findings", "stale-copy", "findings")
	b.page("/ledger", "survey.run", "ledger")
	b.page("/rotations", "No rotation yet", "rotations-empty")

	// Rehearse and rotate, watching live.
	b.open("/accounts/"+account+"?tab=rotate", "4 dependents")
	b.press("Verify now")
	b.see("The authority accepts the sealed value.")
	b.press("Rehearse")
	b.see("What was checked")
	b.see("restart berth.service on quay1")
	b.see("3 systems were not read completely") // first, and loud
	b.settle()
	b.accessible("rehearsal")
	evaluate[bool](b, "document.querySelector('.decision')?.scrollIntoView({block: 'start'}); window.scrollBy(0, -60); true")
	b.settle()
	b.shot("rehearsal")
	b.fill("input[aria-label='Reason of the rotation']", "shown in the console")
	b.press("Rotate svc-berth now")
	b.see("Rotation 1 of svc-berth")
	b.see("prove berth.service on quay1")
	b.unsee("The journal is being read.")
	b.shot("rotation-running")
	require.Equal(t, "done", u.waitFinished("1"))
	b.see("16 of 16 steps done. It took") // without a reload: the page is live
	b.see("prove that the old value of svc-berth is refused")
	b.see("finished")
	b.settle()
	b.accessible("rotation")
	b.press("Steps")
	b.see("seal a new value for svc-berth")
	b.settle()
	b.accessible("steps")
	b.press("Waves")
	b.page("/rotations/1?tab=time", "What was done when, and what stood still?", "rotation-time-dark")
	b.page("/rotations/1", "Undo everywhere", "rotation")
	b.page("/accounts/"+account, "held: matches", "account")
	b.page("/accounts/"+account+"?tab=rights", "Group Operations", "account-rights")
	b.page("/accounts/"+account+"?tab=history", "What happened to svc-berth, and when?", "account-history")
	b.page("/accounts/"+account, "held: matches", "account-dark")
	b.page("/", "Recent rotations", "overview")
	b.page("/", "Recent rotations", "overview-dark")

	// A host key that waits for approval.
	d.Estate.Hosts["tide1"].NewHostKey()
	b.open("/systems/tide1", "Approved host key")
	b.press("Check")
	b.see("A host key waits for approval.")
	b.accessible("host key")
	b.shot("host-key")
	b.press("It is the same: approve")
	b.see("Stand-in Linux")

	// Two people: what one asks for waits for the other.
	b.page("/approvals", "Nothing was asked for", "approvals-empty")
	u.moss(0, "user", "add", "odile", "--role", "approver", "--password-file", u.file("odile.pw", "boats-leave-before-dawn-7"))
	u.moss(0, "system", "change", "quay1", "--address", "198.51.100.7")
	b.page("/approvals", "198.51.100.7", "approvals")
	b.page("/approvals", "198.51.100.7", "approvals-dark")
	b.page("/yourself", "password", "yourself")

	b.open("/ledger", "Verify")
	b.press("Verify")
	b.see("signed checkpoint")
	b.shot("ledger")
	b.open("/accounts?f=name~no-such-name", "Nothing matches these filters.")
	b.accessible("nothing matches")
	b.open("/accounts?f=nonsense=1", "there is no column")
	b.accessible("error")
	b.open("/no/such/page", "There is no such page")
	b.press("ines: settings and sign-out")
	b.press("Sign out")
	b.see("Password")
}

// TestConsoleMonday: the terminals stand still; the console says why, repairs
// it, and changes the log-on of many services at once.
func TestConsoleMonday(t *testing.T) {
	t.Parallel()
	d, u := startDemo(t)
	b := signedIn(t, d)
	id := func(system, name string) string {
		return fmt.Sprint(u.rows("dependent", "list", "--filter", "system="+system, "--filter", "name="+name)[0]["id"])
	}

	b.page("/dependents?f=kind=service&f=system=north1", "QuayLineBoarding", "services")
	b.page("/dependents/print?group=account&f=system=north1", "svc-quayline (larkmoor-directory)", "print")
	b.page("/findings?f=kind=down", "it starts by itself and is stopped", "findings-down")
	b.page("/systems/north1", "Latest attempt", "windows-host")

	b.page("/dependents/"+id("north1", "QuayLineBoarding"), "Start order", "dependent-dark")
	b.open("/dependents/"+id("north1", "QuayLineBoarding"), "Start order")
	b.press("Why is it down?")
	b.see("What failed first: QuayLineStore")
	b.see("the password has expired")
	b.accessible("diagnosis")
	b.settle()
	evaluate[bool](b, "document.querySelector('.verdict')?.scrollIntoView({block: 'start'}); true")
	b.settle()
	b.shot("diagnosis")
	b.page("/accounts/"+fmt.Sprint(u.rows("account", "list", "--filter", "name=svc-quayline")[0]["id"]), "Start order on skerry1", "account-services")
	b.open("/dependents/"+id("north1", "QuayLineBoarding"), "Start order")
	b.press("Why is it down?")
	b.see("Repair")
	b.press("Rehearse")
	b.see("Expected interruption")
	b.accessible("repair rehearsed")
	b.fill("input[aria-label='Reason of the rotation']", "Monday morning")
	b.press("Repair now")
	b.see("Rotation 1 of svc-quayline")
	require.Equal(t, "done", u.waitFinished("1"))
	b.see("30 of 30 steps done")
	b.shot("repair-done")
	for _, host := range []string{"north1", "skerry1"} {
		require.True(t, d.Estate.Ready(host, "QuayLineBoarding"), d.Estate.Stack(host))
	}

	// One stopped by a person: it is told, and started from here.
	d.Estate.Windows["north1"].Stop("KioskAgent", `LARKMOOR\ines.marsh`)
	b.open("/dependents/"+id("north1", "KioskAgent"), "Diagnosis")
	b.press("Why is it down?")
	b.see("somebody stopped it")
	b.see("ines.marsh")
	b.fill("input[aria-label='Reason of the start']", "asked Ines")
	b.press("Start")
	b.see("KioskAgent on north1 is up, and nothing speaks against its next start.")

	// Many at once.
	b.open("/dependents?f=runs_as~odile.kern", "FerryCam")
	b.press("Choose all shown by the filters")
	b.see("2 chosen")
	b.press("Change their log-on")
	b.see("Let 2 dependents log on as")
	b.choose(".assign .ant-select", "svc-terminal")
	b.press("Rehearse")
	b.see("is not in custody: its password could not be given back")
	b.accessible("assignment rehearsed")
	b.shot("assign")
	b.fill("input[aria-label='Reason of the rotation']", "Odile left")
	b.press("Assign now")
	b.see("Assignment 2 of svc-terminal")
	require.Equal(t, "done", u.waitFinished("2"))

	// A new system with a new steward, and a list with a mistake.
	b.open("/systems", "Add a system")
	b.press("Add a system")
	b.see("Add the system")
	b.choose("#system-kind", "windows host")
	b.choose("#system-steward", "a new one")
	b.see("Name of the steward")
	b.settle()
	b.accessible("add a system")
	b.fill("#system-name", "kiosk4")
	b.fill("#system-address", "127.0.0.9")
	b.fill("#fresh-name", "kiosks")
	b.fill("#fresh-account", "LARKMOOR\\kiosk")
	b.fill("#fresh-password", "Kiosk-Password-44")
	b.shot("add-system")
	b.press("Add the system")
	b.see("kiosk4")
	b.press("Check")
	b.see("connection refused")
	b.open("/systems", "kiosk4")
	b.press("Add many")
	b.fill("#import-list", "name,kind,port\nkiosk5,windows-host,ninety\nkiosk4,windows-host,5986\n")
	b.press("Add them")
	b.see("no systems added, 1 already there, 1 row not taken.")
	b.accessible("add many")

	// A start that fails, with the event records beside the failed step.
	north := d.Estate.Windows["north1"]
	north.Grant(`LARKMOOR\svc-terminal`, false)
	u.moss(0, "rotate", "rehearse", "svc-terminal", "--on-failure", "stop")
	u.moss(3, "rotate", "run", "svc-terminal", "--on-failure", "stop", "--reason", "test")
	b.open("/rotations/3", "It waits for a decision.")
	b.see("Resume: try failed steps again")
	b.see("Go on without failed steps")
	shown := u.moss(0, "rotate", "show", "3")
	require.Contains(t, shown, "Decisions  resume, go-on, undo")
	require.Contains(t, shown, "not proven")
	b.see("not proven")
	require.Contains(t, u.moss(1, "rotate", "stop", "3"), "rotation 3: it is stopped: only a running one can be stopped")
	b.see("record 7041")
	b.press("Why? Read the event records")
	b.see("the account lacks the right to log on as a service")
	b.accessible("failed step")
	evaluate[bool](b, "document.querySelector('.why')?.scrollIntoView({block: 'center'}); true")
	b.settle()
	b.shot("failed-step")
}

// TestConsoleStart shows a new service: set-up, and what to do first.
func TestConsoleStart(t *testing.T) {
	p := &demo.Process{Binary: binary, Folder: t.TempDir(), Listen: "127.0.0.1:0"}
	require.NoError(t, p.StartService(context.Background(), 0))
	t.Cleanup(func() { require.NoError(t, p.StopService(15)) })
	b := newBrowser(t, p.URL)
	b.open("/", "Set-up code")
	b.accessible("set-up")
	b.fill("#code", "WRONGCODE")
	b.fill("#name", "ines")
	b.fill("#password", "slow-tides-keep-time")
	b.fill("#again", "slow-tides-keep-time")
	b.press("Set up")
	b.see("this is not the set-up code")
	code, err := os.ReadFile(p.File("setup.code"))
	require.NoError(t, err)
	evaluate[bool](b, "(() => { const e = document.querySelector('#code'); e.value = ''; e.dispatchEvent(new Event('input')); return true })()")
	b.fill("#code", string(code))
	b.fill("#password", "slow-tides-keep-time")
	b.fill("#again", "slow-tides-keep-time")
	b.press("Set up")
	b.see("First directory")
	b.see("The account by which Moss Ledger itself signs in")
	b.settle()
	b.accessible("start")
	b.shot("start")
	for path, text := range map[string]string{"/systems": "There are no systems", "/accounts": "No accounts yet", "/dependents": "No dependents yet", "/surveys": "There was no survey yet", "/rotations": "No rotation yet", "/findings": "Nothing needs you"} {
		b.open(path, text)
		b.accessible(path)
	}
}
