package windowshost

import (
	"strings"

	"mossledger.example/moss/internal/standin/windowshost/spelling"
)

// Kinds of log-on of a task's principal.
const (
	TaskPassword       = 1
	TaskS4U            = 2
	TaskInteractive    = 3
	TaskGroup          = 4
	TaskServiceAccount = 5
)

// Task is a scheduled task.
type Task struct {
	Name, Path, Description, Author string
	User                            string // principal as written, or as the host returns it
	LogOn                           int
	Execute, Arguments              string
	Start                           string // of its trigger
	Interval                        string // of its repetition, such as PT10M
	Disabled                        bool
	Password                        string
}

// Application pool states.
const (
	poolStarting = 0
	poolStarted  = 1
	poolStopping = 2
	poolStopped  = 3
)

// Pool is an application pool of the web server.
type Pool struct {
	Name     string
	Identity int // 0 LocalSystem, 1 LocalService, 2 NetworkService, 3 a named account, 4 its own virtual one
	User     string
	Password string
	Manual   bool

	state int
	used  string // what its worker was started with
}

// AddTask adds a scheduled task.
func (h *Host) AddTask(t Task) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if t.Path == "" {
		t.Path = `\`
	}
	h.batch[h.canonical(t.User)] = true
	h.tasks = append(h.tasks, &t)
}

// TaskStores returns what a task has stored.
func (h *Host) TaskStores(name string) (user, password string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	for _, t := range h.tasks {
		if fold(t.Name) == fold(name) {
			return t.User, t.Password
		}
	}
	return "", ""
}

// AddPool adds an application pool and starts it.
func (h *Host) AddPool(p Pool) {
	h.lock.Lock()
	defer h.lock.Unlock()
	p.state = poolStarted
	p.used = p.User + "\x00" + p.Password
	h.pools = append(h.pools, &p)
}

// PoolStores returns what a pool has stored.
func (h *Host) PoolStores(name string) (user, password string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	for _, p := range h.pools {
		if fold(p.Name) == fold(name) {
			return p.User, p.Password
		}
	}
	return "", ""
}

// PoolServes is a request to a site of the pool: a worker is started when
// there is none, with what the pool has stored then.
func (h *Host) PoolServes(name string) bool {
	h.lock.Lock()
	defer h.lock.Unlock()
	for _, p := range h.pools {
		if fold(p.Name) != fold(name) {
			continue
		}
		if p.state != poolStarted {
			return false
		}
		if p.used != "" || p.Identity != 3 {
			return true
		}
		if h.signIn(p.User, p.Password) != Accepted {
			p.state = poolStopped
			for _, code := range []int{5021, 5057, 5059} {
				h.log(Event{Source: "WAS", Code: code, Strings: []string{p.Name}, Message: "Application pool " + p.Name + " has been disabled. The identity of application pool " + p.Name + " is invalid."})
			}
			return false
		}
		p.used = p.User + "\x00" + p.Password
		return true
	}
	return false
}

// taskAt finds the task that a method is about; nil for none.
func (h *Host) taskAt(input map[string]string) *Task {
	path := input["TaskPath"]
	if path == "" {
		path = `\`
	}
	for _, t := range h.tasks {
		if strings.EqualFold(t.Name, input["TaskName"]) && strings.EqualFold(t.Path, path) {
			return t
		}
	}
	return nil
}

// setTask is the method SetByUser: the scheduler checks the password and the
// right when it stores them. A managed account has none to give.
func (h *Host) setTask(input map[string]string) (int, string) {
	t := h.taskAt(input)
	if t == nil {
		return 0, "0x80070002"
	}
	user := input["User"]
	if user == "" {
		user = t.User
	}
	if !h.exists(user) {
		return 0, "0x80070534"
	}
	if !builtIn(user) {
		if spelling.Managed(user) || h.signIn(user, input["Password"]) != Accepted {
			return 0, "0x8007052E"
		}
	}
	t.User, t.Password, t.LogOn = user, input["Password"], TaskPassword
	if builtIn(user) {
		t.Password, t.LogOn = "", TaskServiceAccount
	}
	return 0, ""
}

// setPrincipal is the method SetByPrincipal: an account that needs no password to be
// given, one of the machine itself or a managed one, of which the host fetches it.
func (h *Host) setPrincipal(input map[string]string) (int, string) {
	t := h.taskAt(input)
	user := input["Principal.UserId"]
	switch {
	case input["Principal.is"] != "MSFT_TaskPrincipal2_Type":
		return 0, "0x80041005" // a type mismatch
	case t == nil:
		return 0, "0x80070002"
	case !h.exists(user):
		return 0, "0x80070534"
	case builtIn(user):
		t.User, t.Password, t.LogOn = user, "", TaskServiceAccount
	case spelling.Managed(user) && input["Principal.LogonType"] == "1":
		t.User, t.Password, t.LogOn = user, "", TaskPassword
	default:
		return 0, "0x8007052E"
	}
	return 0, ""
}

func (p *Pool) start() { p.state, p.used = poolStarted, "" }

// recycle ends the worker; the next request starts one anew.
func (p *Pool) recycle() bool {
	if p.state != poolStarted {
		return false
	}
	p.used = ""
	return true
}

// UpdatePool changes a pool behind everybody's back.
func (h *Host) UpdatePool(name string, change func(*Pool)) {
	h.lock.Lock()
	defer h.lock.Unlock()
	for _, p := range h.pools {
		if fold(p.Name) == fold(name) {
			change(p)
		}
	}
}
