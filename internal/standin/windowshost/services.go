package windowshost

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"
)

// Start modes as the service class spells them.
const (
	Automatic = "Auto"
	Manual    = "Manual"
	Off       = "Disabled"
)

// States of a service as its class spells them.
const (
	Running      = "Running"
	Stopped      = "Stopped"
	StartPending = "Start Pending"
	StopPending  = "Stop Pending"
	Paused       = "Paused"
)

// Return codes of the service class's methods.
const (
	codeOK                = 0
	codeDependentsRunning = 3
	codeCannotAccept      = 5
	codeTimeout           = 7
	codePathNotFound      = 9
	codeAlreadyRunning    = 10
	codeDependencyDeleted = 12
	codeDependencyFailed  = 13
	codeDisabled          = 14
	codeLogOnFailed       = 15
	codeInvalidParameter  = 21
	codeInvalidAccount    = 22
)

// kinds are the start modes as records spell them.
var kinds = map[string]string{Automatic: "auto start", Manual: "demand start", Off: "disabled"}

// Service is a service.
type Service struct {
	Name, Display, Description, Path string
	Account                          string // StartName as written
	Password                         string // stored; nobody can read it
	Mode                             string
	Needs                            []string // services it depends on
	Shared                           bool     // shares its process with others
	Public                           bool     // its own descriptor shows it to whoever signs in
	Private                          bool     // its own descriptor shows it to nobody, administrators included
	Descriptor                       []byte   // who may start, stop and change it; nil for the usual one

	StartTime, StopTime time.Duration // in the pending states
	WaitHint            time.Duration // told in them, with a checkpoint that rises twice as often
	Hangs               bool          // never leaves the stop pending state
	ComesBack           time.Duration // starts again so long after it stopped; 0 never
	// Program decides whether the program itself comes up, as it would by
	// signing in somewhere with what the system logged it on with.
	Program func(account, password string) error
	Idle    bool // not started when added

	state   string
	until   time.Time // of a pending state
	since   time.Time // when it entered it
	back    time.Time // when it starts again by itself
	pid     int
	started time.Time
	used    string // account and password it runs with
	exit    int
}

// AddService adds a service and starts it, unless it is Idle or disabled.
// Accounts of services that are added have the right to log on as one.
func (h *Host) AddService(s Service) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if s.Display == "" {
		s.Display = s.Name
	}
	if s.Mode == "" {
		s.Mode = Automatic
	}
	s.state, s.exit = Stopped, 1077 // never started since boot
	h.services[fold(s.Name)] = &s
	h.order = append(h.order, fold(s.Name))
	if !builtIn(s.Account) {
		if key := h.canonical(s.Account); !h.rights[key] {
			h.rights[key] = true
		}
	}
	if !s.Idle && s.Mode != Off {
		_ = h.start(&s) // a test looks at its state
		s.settle(h, h.now().Add(time.Hour))
		s.started = h.booted.Add(30 * time.Second)
	}
}

// RemoveService takes a service away.
func (h *Host) RemoveService(name string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	delete(h.services, fold(name))
	for i, key := range h.order {
		if key == fold(name) {
			h.order = append(h.order[:i:i], h.order[i+1:]...)
			return
		}
	}
}

// UpdateService changes a service behind everybody's back.
func (h *Host) UpdateService(name string, change func(*Service)) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if s := h.services[fold(name)]; s != nil {
		change(s)
	}
}

// State returns a service's state, or "" when there is none.
func (h *Host) State(name string) string {
	h.lock.Lock()
	defer h.lock.Unlock()
	s := h.services[fold(name)]
	if s == nil {
		return ""
	}
	s.settle(h, h.now())
	return s.state
}

// Stores returns account and password that a service has stored, for proofs
// from outside.
func (h *Host) Stores(name string) (account, password string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if s := h.services[fold(name)]; s != nil {
		return s.Account, s.Password
	}
	return "", ""
}

// Uses returns account and password that a running service was started with.
func (h *Host) Uses(name string) (account, password string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if s := h.services[fold(name)]; s != nil && s.state == Running {
		account, password, _ = strings.Cut(s.used, "\x00")
	}
	return account, password
}

// settle lets time pass.
func (s *Service) settle(h *Host, now time.Time) {
	switch {
	case s.state == StartPending && !now.Before(s.until):
		s.state = Running
		h.entered(s, 4)
	case s.state == StopPending && !s.Hangs && !now.Before(s.until):
		s.stopped(h, 0)
	case s.state == Stopped && !s.back.IsZero() && !now.Before(s.back):
		s.back = time.Time{}
		_ = h.start(s)
	}
}

func (s *Service) stopped(h *Host, exit int) {
	s.state, s.pid, s.exit, s.used, s.started = Stopped, 0, exit, "", time.Time{}
	if s.ComesBack > 0 {
		s.back = h.now().Add(s.ComesBack)
	}
	h.entered(s, 1)
}

// entered logs record 7036. Its strings are in the host's language; its data is the
// service's key name and the number of the state, in every language.
func (h *Host) entered(s *Service, state int) {
	words := map[int]string{1: "stopped", 4: "running"}
	message := "The " + s.Display + " service entered the " + words[state] + " state."
	if h.German {
		words = map[int]string{1: "beendet", 4: "ausgef\u00fchrt"}
		message = "Dienst \"" + s.Display + "\" befindet sich jetzt im Status \"" + words[state] + "\"."
	}
	var data []byte
	for _, u := range utf16.Encode([]rune(fmt.Sprintf("%s/%d\x00", s.Name, state))) {
		data = append(data, byte(u), byte(u>>8))
	}
	h.log(Event{Source: "Service Control Manager", Code: 7036, Level: "Information", Strings: []string{s.Display, words[state]}, Message: message, Data: data})
}

func (h *Host) settleAll() {
	now := h.now()
	for _, key := range h.order {
		h.services[key].settle(h, now)
	}
}

// start starts a service, and what it needs before it.
func (h *Host) start(s *Service) int {
	switch {
	case s.Mode == Off:
		return codeDisabled
	case s.state == Running || s.state == StartPending:
		return codeAlreadyRunning
	case s.state == StopPending:
		return codeCannotAccept
	}
	for _, name := range s.Needs {
		if d := h.driver(name); d != nil {
			if d.Stopped {
				s.exit = 1068
				h.log(Event{Source: "Service Control Manager", Code: 7001, Strings: []string{s.Display, d.Display, "%%31"}, Message: fmt.Sprintf("The %s service depends on the %s service which failed to start because of the following error: A device attached to the system is not functioning.", s.Display, d.Display)})
				return codeDependencyFailed
			}
			continue
		}
		needed := h.services[fold(name)]
		if needed == nil {
			s.exit = 1075
			h.log(Event{Source: "Service Control Manager", Code: 7003, Strings: []string{s.Display, name}, Message: fmt.Sprintf("The %s service depends on the following service: %s. This service might not be present.", s.Display, name)})
			return codeDependencyDeleted
		}
		needed.settle(h, h.now())
		if needed.state == Running || needed.state == StartPending {
			continue
		}
		if code := h.start(needed); code != codeOK {
			s.exit = 1068
			h.log(Event{Source: "Service Control Manager", Code: 7001, Strings: []string{s.Display, needed.Display, "%%" + strconv.Itoa(needed.exit)}, Message: fmt.Sprintf("The %s service depends on the %s service which failed to start because of the following error: %s", s.Display, needed.Display, exitWords(needed.exit))})
			return codeDependencyFailed
		}
	}
	if code := h.logOn(s); code != codeOK {
		return code
	}
	if s.Program != nil {
		if err := s.Program(s.Account, h.passwordOf(s.Account, s.Password)); err != nil {
			s.exit = 1066
			h.log(Event{Source: "Service Control Manager", Code: 7024, Strings: []string{s.Display, "%%1"}, Message: "The " + s.Display + " service terminated with the following service-specific error: " + err.Error()})
			return codeTimeout
		}
	}
	h.nextPID += 4
	s.state, s.pid, s.started, s.exit, s.used = Running, h.nextPID, h.now(), 0, s.Account+"\x00"+h.passwordOf(s.Account, s.Password)
	if s.Shared {
		s.pid = 560
	}
	if s.StartTime > 0 {
		s.state, s.since, s.until = StartPending, h.now(), h.now().Add(s.StartTime)
		return codeOK
	}
	h.entered(s, 4)
	return codeOK
}

// logOn logs a service on with what it has stored.
func (h *Host) logOn(s *Service) int {
	if builtIn(s.Account) {
		return codeOK
	}
	answer := h.signIn(s.Account, s.Password)
	code := 7038
	if answer == Accepted && !h.granted(s.Account) {
		answer, code = NotGranted, 7041
	}
	if answer == Accepted {
		return codeOK
	}
	s.exit = 1069
	message := fmt.Sprintf("The %s service was unable to log on as %s with the currently configured password due to the following error: %s", s.Name, s.Account, answerWords[answer])
	if code == 7041 {
		message = fmt.Sprintf("The %s service was unable to log on as %s with the currently configured password due to the following error: %s Service: %s Domain and account: %s This service account does not have the required user right \"Log on as a service.\"", s.Name, s.Account, answerWords[answer], s.Name, s.Account)
	}
	h.log(Event{Source: "Service Control Manager", Code: code, Strings: []string{s.Name, s.Account, "%%" + strconv.Itoa(int(answer))}, Message: message})
	h.log(Event{Source: "Service Control Manager", Code: 7000, Strings: []string{s.Display, "%%1069"}, Message: "The " + s.Display + " service failed to start due to the following error: The service did not start due to a logon failure."})
	return codeLogOnFailed
}

func exitWords(code int) string {
	switch code {
	case 1068:
		return "The dependency service or group failed to start."
	case 1069:
		return "The service did not start due to a logon failure."
	case 1077:
		return "No attempts to start the service have been made since the last boot."
	}
	return "error " + strconv.Itoa(code)
}

// stop asks a service to stop.
func (h *Host) stop(s *Service) int {
	if s.state != Running {
		return codeCannotAccept
	}
	for _, key := range h.order {
		if other := h.services[key]; other.state != Stopped && needs(other, s.Name) {
			return codeDependentsRunning
		}
	}
	s.state, s.since, s.until = StopPending, h.now(), h.now().Add(s.StopTime)
	if s.StopTime == 0 && !s.Hangs {
		s.stopped(h, 0)
	}
	return codeOK
}

func needs(s *Service, name string) bool {
	for _, n := range s.Needs {
		if strings.EqualFold(n, name) {
			return true
		}
	}
	return false
}

// Stop stops a service as a person at the host would: the record says so.
func (h *Host) Stop(name, person string) int {
	h.lock.Lock()
	defer h.lock.Unlock()
	s := h.services[fold(name)]
	if s == nil {
		return codeInvalidParameter
	}
	h.settleAll()
	code := h.stop(s)
	if code == codeOK {
		h.log(Event{Source: "Service Control Manager", Code: 7042, Level: "Information", Strings: []string{s.Display, "stop", "0x40030011 [Operating System: Network Connectivity (Planned)]", "None"}, User: person, Message: "The " + s.Display + " service was successfully sent a stop control. The reason specified was: 0x40030011 [Operating System: Network Connectivity (Planned)] Comment: None"})
	}
	return code
}

// Start starts a service at the host.
func (h *Host) Start(name string) int {
	h.lock.Lock()
	defer h.lock.Unlock()
	s := h.services[fold(name)]
	if s == nil {
		return codeInvalidParameter
	}
	h.settleAll()
	return h.start(s)
}

// Crash ends a service's process with an error.
func (h *Host) Crash(name string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if s := h.services[fold(name)]; s != nil && s.state == Running {
		s.stopped(h, 1067)
		h.log(Event{Source: "Service Control Manager", Code: 7034, Strings: []string{s.Display, "1"}, Message: "The " + s.Display + " service terminated unexpectedly. It has done this 1 time(s)."})
	}
}

// change is the method Change: only what is given changes, and the password is
// stored without a look at it.
func (h *Host) change(s *Service, input map[string]string) int {
	account, given := input["StartName"]
	if given && !builtIn(account) && !h.exists(account) {
		return codeInvalidAccount
	}
	if mode, ok := input["StartMode"]; ok && s.Mode != "" {
		defer func(before string) {
			if s.Mode != before {
				h.log(Event{Source: "Service Control Manager", Code: 7040, Level: "Information", Strings: []string{s.Display, kinds[before], kinds[s.Mode], s.Name}, User: h.asker, Message: fmt.Sprintf("The start type of the %s service was changed from %s to %s.", s.Display, kinds[before], kinds[s.Mode])})
			}
		}(s.Mode)

		modes := map[string]string{"Automatic": Automatic, "Manual": Manual, "Disabled": Off}
		if modes[mode] == "" {
			return codeInvalidParameter
		}
		s.Mode = modes[mode]
	}
	if given {
		s.Account = account
		if builtIn(account) || strings.HasSuffix(account, "$") {
			s.Password = ""
		}
	}
	if password, ok := input["StartPassword"]; ok {
		s.Password = password
	}
	if display, ok := input["DisplayName"]; ok {
		s.Display = display
	}
	return codeOK
}

// Reboot ends every process and starts what starts by itself.
func (h *Host) Reboot() {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.reboot()
}

func (h *Host) reboot() {
	h.booted, h.pending = h.now(), false
	h.contexts = map[string]*enumeration{}
	for _, key := range h.order {
		s := h.services[key]
		s.state, s.pid, s.used, s.started, s.exit, s.back = Stopped, 0, "", time.Time{}, 1077, time.Time{}
	}
	h.log(Event{Source: "EventLog", Code: 6005, Level: "Information", Message: "The Event log service was started."})
	for _, key := range h.order {
		if s := h.services[key]; s.Mode == Automatic && s.state == Stopped && s.exit == 1077 {
			_ = h.start(s) // what fails leaves its records
		}
	}
	for _, p := range h.pools {
		p.used = ""
		p.state = poolStarted
	}
}
