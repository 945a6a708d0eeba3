// Package windowshost is a stand-in for a host of the Windows family: it
// speaks WS-Management over HTTPS for real and has services, scheduled tasks,
// application pools, local accounts and an event log in memory. It enforces
// what the real thing enforces and hurts where the real thing hurts: changing
// a service's log-on never checks the password; a running service keeps its
// old log-on; a start with a wrong, expired, locked or disabled account, a
// missing right or a failed dependency fails with the right code and leaves
// the right event records; a reboot starts what starts by itself. Passwords
// are checked against its directory by an LDAP bind, or against its own local
// accounts. It ships for the demonstration estate and for tests.
package windowshost

import (
	"crypto/tls"
	"fmt"
	"hash/fnv"
	"net"
	"net/http"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin/windowshost/permissions"
	"mossledger.example/moss/internal/standin/windowshost/spelling"
)

// Authority is the directory that a host is a member of.
type Authority interface {
	// SignIn checks a password: Accepted, or one of the other answers.
	SignIn(account, password string) Answer
	// Exists reports whether the directory knows the account.
	Exists(account string) bool
}

// Fetches is what an authority may do beside: give a host the password of a managed account, by
// the groups that the host was in when it started ([MS-ADTS], section 2.2.19).
type Fetches interface {
	Fetch(host, account string, started time.Time) (secret.Value, error)
}

// Responder judges a sign-in by a proof instead of the password.
type Responder interface {
	Judge(account string, proves func(password string) bool) (ldapResult int, words string)
}

// Answer of a sign-in, by the number that the system's records carry.
type Answer int

// Answers.
const (
	Accepted       Answer = 0
	Wrong          Answer = 1326
	Expired        Answer = 1330
	Disabled       Answer = 1331
	AccountExpired Answer = 1793
	MustChange     Answer = 1907
	LockedOut      Answer = 1909
	NotGranted     Answer = 1385
	Unavailable    Answer = 1311 // no log-on servers
)

var answerWords = map[Answer]string{
	Wrong: "The user name or password is incorrect.", Expired: "The password for this account has expired.",
	Disabled: "This user can't sign in because this account is currently disabled.", AccountExpired: "The user's account has expired.",
	MustChange: "The user's password must be changed before signing in.", LockedOut: "The referenced account is currently locked out and may not be logged on to.",
	NotGranted:  "Logon failure: the user has not been granted the requested logon type at this computer.",
	Unavailable: "There are currently no logon servers available to service the logon request.",
}

// Config is what a host is made of.
type Config struct {
	Name      string // NetBIOS name, such as NORTH1
	Domain    string // DNS name of the domain; "" for a host in no domain
	NetBIOS   string // of the domain
	Authority Authority
	// Responses checks NTLM responses of the domain's accounts, as its
	// controllers do; without it only local accounts sign in so.
	Responses Responder
	TLS       *tls.Config
	Admins    []string // directory accounts that may use it from outside, as DOMAIN\name
	Basic     bool     // offer Basic beside Negotiate
	Keytab    []byte   // for Kerberos; nil for none
	Service   string   // service principal of the key tab
	Now       func() time.Time
	Skew      time.Duration // how far the host's own clock is off
	Zone      int           // minutes east of UTC
	German    bool          // the words of states in its records are German
}

// User is a local account.
type User struct {
	Name, FullName, Description, Password string
	Disabled, Locked, Expires, Admin      bool
	RID                                   int
}

// Group is a local group; members are written as DOMAIN\name.
type Group struct {
	Name    string
	Members []string
}

// Operators is the local group whose members may use WS-Management without being
// administrators: they are shown what each thing's own descriptor shows them.
const Operators = "Remote Management Users"

// Driver is a driver that services may need. It is no service, though the class of
// what services need names it beside them.
type Driver struct {
	Name, Display, Path string
	Stopped             bool
}

// Cluster makes some of a host's services resources of a failover cluster.
type Cluster struct {
	Nodes    []string
	Services []string
}

// Event is a record of the system log.
type Event struct {
	Record  int
	Log     string // Security; System when it is empty
	Source  string
	Code    int
	Level   string
	Time    time.Time
	Strings []string
	Message string
	User    string
	Data    []byte
}

// Fault makes a host misbehave; the zero Fault does not.
type Fault struct {
	Down    bool                                                   // refuse connections
	Latency time.Duration                                          // of every call
	Reply   func(action string) (status int, body string, ok bool) // answer instead of the host
	Cut     func(action string) bool                               // let it take effect, then cut the reply in the middle
	Drop    func(action string) bool                               // let it take effect, then close without a reply
	Forget  bool                                                   // forget enumerations between pulls
	Slow    func(class string) bool                                // have no instance of a class ready in time
}

// Host is one stand-in.
type Host struct {
	Config
	lock     sync.Mutex
	services map[string]*Service // by folded name
	order    []string
	tasks    []*Task
	pools    []*Pool
	users    []*User
	groups   []*Group
	rights   map[string]bool // accounts that may log on as a service
	batch    map[string]bool // and as a batch job
	policy   permissions.Policy
	sids     map[string]string // of accounts that were asked for, by their canonical names
	events   []Event
	security []Event // the log of security
	booted   time.Time
	pending  bool // a reboot is pending
	drivers  []Driver
	cluster  *Cluster
	asker    string // who the request being answered is of
	partly   bool   // and whether it is shown a part only
	nextPID  int
	fault    Fault
	contexts map[string]*enumeration
	nextID   int
	calls    map[string]int // by action, for tests

	server   *http.Server
	listener net.Listener
	address  string
	done     sync.WaitGroup
}

// New makes a host with the services that every host has.
func New(config Config) *Host {
	if config.Now == nil {
		config.Now = time.Now
	}
	h := &Host{
		Config: config, services: map[string]*Service{}, rights: map[string]bool{}, batch: map[string]bool{}, policy: permissions.Policy{}, sids: map[string]string{},
		contexts: map[string]*enumeration{}, calls: map[string]int{}, nextPID: 600,
	}
	h.booted = h.now().Add(-40 * 24 * time.Hour)
	h.drivers = []Driver{{Name: "HTTP", Display: "HTTP Service", Path: `system32\drivers\HTTP.sys`}, {Name: "Tcpip", Display: "TCP/IP Protocol Driver", Path: `System32\drivers\tcpip.sys`}}
	for _, s := range []Service{
		{Name: "RpcSs", Display: "Remote Procedure Call (RPC)", Path: `C:\Windows\system32\svchost.exe -k rpcss -p`, Account: `NT AUTHORITY\NetworkService`, Shared: true},
		{Name: "EventLog", Display: "Windows Event Log", Path: `C:\Windows\System32\svchost.exe -k LocalServiceNetworkRestricted -p`, Account: `NT AUTHORITY\LocalService`, Shared: true},
		{Name: "Schedule", Display: "Task Scheduler", Path: `C:\Windows\system32\svchost.exe -k netsvcs -p`, Account: "LocalSystem", Needs: []string{"RpcSs"}, Shared: true},
		{Name: "WinRM", Display: "Windows Remote Management (WS-Management)", Path: `C:\Windows\System32\svchost.exe -k NetworkService -p`, Account: `NT AUTHORITY\NetworkService`, Needs: []string{"RpcSs", "HTTP"}, Shared: true},
		{Name: "Spooler", Display: "Print Spooler", Path: `C:\Windows\System32\spoolsv.exe`, Account: "LocalSystem", Needs: []string{"RpcSs"}},
	} {
		s.Mode, s.Public = Automatic, s.Shared
		h.AddService(s)
	}
	h.AddUser(User{Name: "Administrator", RID: 500, Disabled: true, Description: "Built-in account for administering the computer/domain"})
	h.AddUser(User{Name: "Guest", RID: 501, Disabled: true, Description: "Built-in account for guest access to the computer/domain"})
	admins := []string{config.Name + `\Administrator`}
	h.AddGroup(Group{Name: "Administrators", Members: append(admins, config.Admins...)})
	h.AddGroup(Group{Name: Operators})
	h.AddGroup(Group{Name: "Users", Members: []string{`NT AUTHORITY\Authenticated Users`}})
	return h
}

// now is the host's own clock.
func (h *Host) now() time.Time { return h.Now().Add(h.Skew) }

var builtIn = spelling.BuiltIn

func fold(name string) string { return strings.ToLower(name) }

// AddUser adds a local account.
func (h *Host) AddUser(u User) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if u.RID == 0 {
		u.RID = 1000 + len(h.users)
	}
	h.users = append(h.users, &u)
	if u.Admin {
		for _, g := range h.groups {
			if g.Name == "Administrators" {
				g.Members = append(g.Members, h.Name+`\`+u.Name)
			}
		}
	}
}

// AddGroup adds a local group.
func (h *Host) AddGroup(g Group) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.groups = append(h.groups, &g)
}

// UpdateUser changes a local account.
func (h *Host) UpdateUser(name string, change func(*User)) {
	h.lock.Lock()
	defer h.lock.Unlock()
	for _, u := range h.users {
		if fold(u.Name) == fold(name) {
			change(u)
		}
	}
}

// Grant gives an account the right to log on as a service, or takes it.
func (h *Host) Grant(account string, granted bool) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.rights[h.canonical(account)] = granted
}

// SetCluster makes the host a node of a cluster; nil for none.
func (h *Host) SetCluster(c *Cluster) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.cluster = c
}

// AddDriver adds a driver.
func (h *Host) AddDriver(d Driver) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.drivers = append(h.drivers, d)
}

func (h *Host) driver(name string) *Driver {
	for i := range h.drivers {
		if strings.EqualFold(h.drivers[i].Name, name) {
			return &h.drivers[i]
		}
	}
	return nil
}

// AddMember puts an account into a local group.
func (h *Host) AddMember(group, account string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	for _, g := range h.groups {
		if g.Name == group {
			g.Members = append(g.Members, account)
		}
	}
}

// RemoveMember takes an account out of a local group.
func (h *Host) RemoveMember(group, account string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	for _, g := range h.groups {
		if g.Name == group {
			g.Members = slices.DeleteFunc(g.Members, func(m string) bool { return h.canonical(m) == h.canonical(account) })
		}
	}
}

// SetPendingReboot says whether a restart of the host is due.
func (h *Host) SetPendingReboot(due bool) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.pending = due
}

// SetFault makes the host misbehave.
func (h *Host) SetFault(f Fault) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.fault = f
}

func (h *Host) faultNow() Fault {
	h.lock.Lock()
	defer h.lock.Unlock()
	return h.fault
}

// Calls counts the requests of an action so far; "" for all.
func (h *Host) Calls(action string) int {
	h.lock.Lock()
	defer h.lock.Unlock()
	n := 0
	for name, count := range h.calls {
		if action == "" || strings.HasSuffix(name, action) {
			n += count
		}
	}
	return n
}

// Events returns the event log, oldest first.
func (h *Host) Events() []Event {
	h.lock.Lock()
	defer h.lock.Unlock()
	return append([]Event(nil), h.events...)
}

// Log writes an event record, as a program on the host would.
func (h *Host) Log(e Event) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.log(e)
}

func (h *Host) log(e Event) {
	e.Record = len(h.events) + 1
	if e.Time.IsZero() {
		e.Time = h.now()
	}
	if e.Level == "" {
		e.Level = "Error"
	}
	h.events = append(h.events, e)
}

func (h *Host) sid(rid int) string {
	sum := fnv.New32a()
	_, _ = sum.Write([]byte(h.Name)) // a hash never fails
	return fmt.Sprintf("S-1-5-21-%d-%d-%d-%d", sum.Sum32(), sum.Sum32()/7, sum.Sum32()/13, rid)
}

func (h *Host) spelled() spelling.Names {
	return spelling.Names{Own: h.Name, Domain: h.Domain, NetBIOS: h.NetBIOS}
}

func (h *Host) canonical(account string) string { return h.spelled().Canonical(account) }

func (h *Host) local(account string) *User {
	domain, name, _ := strings.Cut(h.canonical(account), `\`)
	if domain != fold(h.Name) {
		return nil
	}
	for _, u := range h.users {
		if fold(u.Name) == name {
			return u
		}
	}
	return nil
}

// exists: the account is one that the host can resolve to an identifier.
func (h *Host) exists(account string) bool {
	if builtIn(account) || h.local(account) != nil {
		return true
	}
	domain, _, _ := strings.Cut(h.canonical(account), `\`)
	return domain == fold(h.NetBIOS) && h.Authority != nil && h.Authority.Exists(account)
}

// signIn checks a password where the account lives.
func (h *Host) signIn(account, password string) Answer {
	if u := h.local(account); u != nil {
		switch {
		case u.Locked:
			return LockedOut
		case u.Password == "" || u.Password != password:
			return Wrong
		case u.Disabled:
			return Disabled
		}
		return Accepted
	}
	domain, _, _ := strings.Cut(h.canonical(account), `\`)
	if domain != fold(h.NetBIOS) || h.Authority == nil {
		return Wrong
	}
	password = h.passwordOf(account, password)
	if password == "" {
		return Wrong
	}
	return h.Authority.SignIn(account, password)
}

// passwordOf is what an account is logged on with: what is stored, or of a managed one what its
// directory gives this host now. "" where it gives nothing.
func (h *Host) passwordOf(account, stored string) string {
	if builtIn(account) || !spelling.Managed(account) {
		return stored
	}
	from, can := h.Authority.(Fetches)
	if !can {
		return ""
	}
	blob, err := from.Fetch(h.NetBIOS+`\`+h.Name+"$", h.canonical(account), h.booted.Add(-h.Skew))
	if err != nil {
		return ""
	}
	given, err := managed.Decode(blob)
	if err != nil {
		return ""
	}
	return managed.Text(given.Current)
}

// names lists the services in the order in which they were added.
func (h *Host) names() []string {
	out := append([]string(nil), h.order...)
	sort.Strings(out)
	return out
}
