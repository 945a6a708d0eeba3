package larkmoor

import (
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/privilege/descriptor"
	"mossledger.example/moss/internal/standin"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/windowshost"
	"mossledger.example/moss/internal/standin/windowshost/domain"
	"mossledger.example/moss/internal/standin/windowshost/permissions"
)

// QuayLine is the application of six services at the terminals, in start
// order. Only the first is needed by all; all but the store log on as
// svc-quayline.
var QuayLine = []string{"QuayLineStore", "QuayLineQueue", "QuayLineFares", "QuayLineBoards", "QuayLineGates", "QuayLineBoarding"}

// startWindows starts the hosts at the terminals. The third, gannet1, is down:
// nothing listens where it should.
func (e *Estate) startWindows(authority *standin.Authority) error {
	for _, name := range []string{"north1", "skerry1"} {
		config, err := authority.Server("127.0.0.1", name+".larkmoor.example")
		if err != nil {
			return err
		}
		h := windowshost.New(windowshost.Config{
			Name: strings.ToUpper(name), Domain: "larkmoor.example", NetBIOS: "LARKMOOR", TLS: config, Basic: true, Admins: []string{`LARKMOOR\` + Manager},
			Responses: e.Directory,
			Authority: &domain.Domain{Address: e.Address, CA: e.CA, Base: Base, Name: "larkmoor.example", Account: ManagerDN, Secret: ManagerPassword, Retrieve: e.Directory.Retrieve},
		})
		e.Windows[name] = h
		e.quayLine(h, name)
		e.kiosks(h, name)
		if _, err := h.Serve("127.0.0.1:0"); err != nil {
			return err
		}
	}
	e.odds()
	return nil
}

// quayLine adds the stack: store, then queue and fares, then boards and gates
// on both, then boarding on all.
func (e *Estate) quayLine(h *windowshost.Host, name string) {
	needs := map[string][]string{
		"QuayLineQueue": {"QuayLineStore"}, "QuayLineFares": {"QuayLineStore"}, "QuayLineBoards": {"QuayLineQueue"},
		"QuayLineGates": {"QuayLineQueue", "QuayLineFares"}, "QuayLineBoarding": {"QuayLineGates", "QuayLineBoards"},
	}
	for _, service := range QuayLine {
		h.AddService(windowshost.Service{
			Name: service, Display: "Quay line " + strings.ToLower(strings.TrimPrefix(service, "QuayLine")), Description: "Ticket gates and boarding, part of six",
			Path: `"C:\Program Files\QuayLine\` + strings.ToLower(strings.TrimPrefix(service, "QuayLine")) + `.exe" --service`, Account: `LARKMOOR\svc-quayline`, Password: Passwords["svc-quayline"],
			Needs: needs[service], StartTime: 150 * time.Millisecond, StopTime: 150 * time.Millisecond, Program: e.logsOn(name, service),
		})
	}
}

// logsOn is a program that signs in with what the system logged it on with.
func (e *Estate) logsOn(host, service string) func(account, password string) error {
	return func(account, password string) error {
		name := account[strings.LastIndexByte(account, '\\')+1:]
		name, _, _ = strings.Cut(name, "@")
		if strings.HasSuffix(name, "$") { // it may stand anywhere
			return e.signIn(host, service, `LARKMOOR\`+name, password)
		}
		return e.signIn(host, service, DN(name), password)
	}
}

// kiosks adds a service, a task and a pool in other spellings of an account.
func (e *Estate) kiosks(h *windowshost.Host, name string) {
	h.AddService(windowshost.Service{Name: "KioskAgent", Display: "Kiosk agent", Path: `C:\Kiosk\agent.exe`, Account: "svc-terminal@larkmoor.example", Password: Passwords["svc-terminal"], Program: e.logsOn(name, "KioskAgent")})
	h.AddTask(windowshost.Task{Name: "Kiosk report", Path: `\Larkmoor\`, Description: "Sales of the day, to the office", User: "svc-terminal", LogOn: windowshost.TaskPassword, Execute: `C:\Kiosk\report.cmd`, Start: "2026-01-05T23:30:00", Password: Passwords["svc-terminal"]})
	h.AddTask(windowshost.Task{Name: "Clock check", Path: `\Larkmoor\`, User: "S-1-5-18", LogOn: windowshost.TaskServiceAccount, Execute: `C:\Windows\System32\w32tm.exe`, Arguments: "/resync", Start: "2026-01-05T04:00:00", Interval: "PT6H"})
	h.AddPool(windowshost.Pool{Name: "KioskSite", Identity: 3, User: `LARKMOOR\svc-terminal`, Password: Passwords["svc-terminal"]})
	h.AddPool(windowshost.Pool{Name: "DefaultAppPool", Identity: 4})
	// At the north the lockers are being put up: the host may not have the password yet.
	lockers := windowshost.Service{Name: "LockerControl", Display: "Luggage lockers", Path: `C:\Lockers\control.exe`, Account: `LARKMOOR\gmsa-lockers$`}
	if name == "north1" {
		lockers.Mode, lockers.Idle = windowshost.Manual, true
	}
	h.AddService(lockers)
	h.AddService(windowshost.Service{Name: "TideDisplay", Display: "Tide display", Path: `C:\Tide\display.exe`, Account: `NT SERVICE\TideDisplay`})
	h.AddUser(windowshost.User{Name: "terminal", FullName: "Terminal operators", Description: "Shared by the shift", Password: "Shift-Change-06"})
}

// odds adds what makes this work hard.
func (e *Estate) odds() {
	north, skerry := e.Windows["north1"], e.Windows["skerry1"]
	// A departed administrator's account, still running as long as nobody
	// restarts it.
	skerry.AddService(windowshost.Service{Name: "FerryCam", Display: "Quay camera, set up by Odile", Path: `C:\Cam\cam.exe`, Account: "odile.kern@larkmoor.example", Password: "Left-Long-Ago-22", Idle: true, Mode: windowshost.Manual})
	north.AddTask(windowshost.Task{Name: "Copy timetables", Path: `\`, Author: `LARKMOOR\odile.kern`, User: `LARKMOOR\odile.kern`, LogOn: windowshost.TaskPassword, Execute: `C:\Scripts\timetables.cmd`, Start: "2026-01-05T05:00:00", Password: "Left-Long-Ago-22"})
	// An account that is no longer there.
	north.AddService(windowshost.Service{Name: "OldCounter", Display: "Passenger counter (old)", Path: `C:\Counter\old.exe`, Account: `LARKMOOR\svc-counter`, Password: "Gone-With-The-Tide-1", Mode: windowshost.Manual, Idle: true})
	skerry.SetPendingReboot(true)
	// What a policy gives on one host: services of the terminals may log on, through their
	// group. One account may debug programs since somebody looked for a fault, and may change
	// another service than its own.
	skerry.SetPolicy(windowshost.LogOnAsService, `LARKMOOR\Terminal Services`, `LARKMOOR\gmsa-lockers$`, `NT SERVICE\ALL SERVICES`)
	skerry.SetPolicy("SeDebugPrivilege", `BUILTIN\Administrators`, `LARKMOOR\svc-terminal`)
	owner, err := descriptor.ParseSID("S-1-5-32-544")
	terminal, err2 := descriptor.ParseSID(skerry.SIDOf(`LARKMOOR\svc-terminal`))
	if err == nil && err2 == nil {
		skerry.UpdateService("QuayLineFares", func(s *windowshost.Service) {
			s.Descriptor = descriptor.Build(owner, descriptor.Entry{Mask: descriptor.FullControl, Trustee: owner}, descriptor.Entry{Mask: permissions.Start | permissions.Stop | permissions.Change, Trustee: terminal})
		})
	}
}

// WeekendPasses lets the password of svc-quayline expire and the hosts restart
// for their updates: on Monday the terminals stand still. Then north1 is permitted to have the
// password of the lockers, and nobody restarts it once more.
func (e *Estate) WeekendPasses() {
	e.Directory.Update(DN("svc-quayline"), func(entry *directory.Entry) { entry.Changed = time.Now().AddDate(0, 0, -91) })
	for _, h := range e.Windows {
		h.Reboot()
	}
	e.Directory.Join(LockerHosts, "CN=NORTH1,OU=Hosts,"+Base, time.Now().Add(2*time.Second))
}

// LockerHosts is the group whose hosts may have the password of gmsa-lockers$.
const LockerHosts = "CN=Locker Hosts,OU=Groups," + Base

// Stack tells the states of the six services on a host.
func (e *Estate) Stack(host string) string {
	var out []string
	for _, service := range QuayLine {
		out = append(out, fmt.Sprintf("%s %s", service, strings.ToLower(e.Windows[host].State(service))))
	}
	return strings.Join(out, ", ")
}
