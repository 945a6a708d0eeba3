// Package unixhost is a stand-in for a unix host with systemd: it speaks SSH
// for real and answers the commands that the connector uses, with its users,
// files, units and sudo rules in memory. It enforces what a real host
// enforces: passwords and keys at sign-in, file modes, sudo rules, and that a
// unit's program starts only if the credential it finds in its file works at
// that moment. It ships for the demonstration estate and for tests.
package unixhost

import (
	"crypto/ed25519"
	"crypto/md5"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"net"
	"path"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/core/estate"
)

// Family is what the host's distribution descends from: "" for Debian. It decides where
// crontabs are and what passwd and chage say.
type Family string

// Families. The first is as old as version 7: its init tells no invocations.
const (
	FamilyRHEL Family = "rhel"
	FamilySUSE Family = "suse"
)

// User is an account that the host knows.
type User struct {
	Name, Gecos, Home, Shell string
	UID                      int
	Groups                   []string
	Password                 string // "" for none
	Key                      ssh.PublicKey
	Changed                  time.Time
	MaxDays                  int                      // 0 for never
	Directory                bool                     // known to the host, and not its own
	Expires                  string                   // the first day on which it is refused; "" for never
	Locked                   bool                     // its password
	Sudo                     func(argv []string) bool // nil for no sudo
}

// File is a file, a directory or a symlink.
type File struct {
	Content []byte
	Mode    uint32
	Owner   string
	Group   string
	ACL     string
	Dir     bool
	Symlink string
	Links   int
	Label   string // where the host labels files
	Flags   string // as lsattr shows them: i, a
}

// Unit is a service unit.
type Unit struct {
	Name, Description, User, Exec, Text string
	Environment                         []string // EnvironmentFile=
	Credentials                         []string // LoadCredential= paths
	After                               []string
	TriggeredBy                         string // a socket or a timer that starts it
	Enabled                             bool
	State                               string // active, inactive, failed
	Invocation                          string
	Words                               string
	// Program decides whether a start succeeds, as the real program would by
	// signing in with what it read.
	Program func(h *Host) error
	// Reload reads files again while the unit runs; nil where it cannot.
	Reload  func(h *Host) error
	starts  int
	started time.Time
}

// Fault makes a host misbehave; the zero Fault does not.
type Fault struct {
	Down    bool                                                                 // refuse connections
	Hang    bool                                                                 // accept and say nothing
	Flood   bool                                                                 // answer every command with endless output
	Command func(user string, argv []string) (exit int, words string, take bool) // answer instead of the host
	Cut     func(argv []string) bool                                             // after this command took effect, cut the connection
	Latency time.Duration                                                        // of every command
}

// Host is one stand-in.
type Host struct {
	Name        string
	Family      Family
	LosesLabels bool     // copies get the label of their folder
	Free        int64    // bytes left in its file system; 0 for a lot
	Programs    []string // further programs that run, by name
	Groups      []string // groups that are there also without members
	MachineID   string
	// Outgoing is the loopback address that connections from here come from;
	// nil for any. Seen tells under which address this host knows a peer; nil
	// for its own.
	Outgoing net.IP
	Seen     func(peer net.IP) net.IP

	lock     sync.Mutex
	users    []*User
	files    map[string]*File
	units    map[string]*Unit
	crontabs map[string]string
	signer   ssh.Signer
	listener net.Listener
	address  string
	conns    map[net.Conn]bool
	done     sync.WaitGroup
	closed   bool
	closing  chan struct{}
	fault    Fault
	log      []string // commands that ran, with who
	sockets  func() []estate.Socket
	ports    map[int]string // where they really are
	journal  []journalLine
}

// New makes a host with root and the usual folders.
func New(name string) *Host {
	sum := md5.Sum([]byte(name))
	h := &Host{
		Name: name, MachineID: hex.EncodeToString(sum[:]), files: map[string]*File{}, units: map[string]*Unit{},
		crontabs: map[string]string{}, conns: map[net.Conn]bool{}, closing: make(chan struct{}),
	}
	h.NewHostKey()
	h.AddUser(User{Name: "root", UID: 0, Home: "/root", Shell: "/bin/bash", Gecos: "root"})
	h.AddUser(User{Name: "daemon", UID: 1, Home: "/usr/sbin", Shell: "/usr/sbin/nologin"})
	h.AddUser(User{Name: "nobody", UID: 65534, Home: "/nonexistent", Shell: "/usr/sbin/nologin"})
	h.Write("/etc/machine-id", File{Content: []byte(h.MachineID + "\n"), Mode: 0o444})
	h.Write("/proc/self/mountinfo", File{Content: []byte("22 1 8:1 / / rw,relatime shared:1 - ext4 /dev/root rw\n23 22 0:21 / /proc rw,nosuid shared:2 - proc proc rw\n"), Mode: 0o444})
	h.Write("/etc/os-release", File{Content: []byte("PRETTY_NAME=\"Stand-in Linux 1\"\nID=standin\n"), Mode: 0o644})
	h.Write("/etc/crontab", File{Content: []byte("SHELL=/bin/sh\n17 *\t* * *\troot\tcd / && run-parts --report /etc/cron.hourly\n"), Mode: 0o644})
	return h
}

// NewHostKey gives the host another key, as after a rebuild.
func (h *Host) NewHostKey() {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		panic(err) // no randomness: nothing can go on
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		panic(err)
	}
	h.lock.Lock()
	h.signer = signer
	h.lock.Unlock()
}

// Fingerprint is that of the host key.
func (h *Host) Fingerprint() string {
	h.lock.Lock()
	defer h.lock.Unlock()
	return ssh.FingerprintSHA256(h.signer.PublicKey())
}

// AddUser adds an account.
func (h *Host) AddUser(u User) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if u.Changed.IsZero() {
		u.Changed = time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)
	}
	h.users = append(h.users, &u)
}

// Write puts a file, with its parents as directories.
func (h *Host) Write(p string, f File) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if f.Mode == 0 {
		f.Mode = 0o644
	}
	if f.Owner == "" {
		f.Owner = "root"
	}
	if f.Group == "" {
		f.Group = "root"
	}
	if f.Links == 0 {
		f.Links = 1
	}
	h.files[p] = &f
	for dir := path.Dir(p); dir != "/"; dir = path.Dir(dir) {
		if h.files[dir] == nil {
			h.files[dir] = &File{Dir: true, Mode: 0o755, Owner: "root", Group: "root"}
		}
	}
}

// Read returns a copy of a file, or false.
func (h *Host) Read(p string) (File, bool) {
	h.lock.Lock()
	defer h.lock.Unlock()
	f := h.follow(p)
	if f == nil {
		return File{}, false
	}
	out := *f
	out.Content = append([]byte(nil), f.Content...)
	return out, true
}

// Paths lists all files, for tests that look for leftovers.
func (h *Host) Paths() []string {
	h.lock.Lock()
	defer h.lock.Unlock()
	var out []string
	for p, f := range h.files {
		if !f.Dir {
			out = append(out, p)
		}
	}
	sort.Strings(out)
	return out
}

// AddUnit adds a unit and its file, and starts it when it is enabled.
func (h *Host) AddUnit(u Unit) {
	text := "[Unit]\nDescription=" + u.Description + "\n"
	for _, after := range u.After {
		text += "After=" + after + "\nRequires=" + after + "\n"
	}
	text += "\n[Service]\n"
	if u.User != "" {
		text += "User=" + u.User + "\n"
	}
	for _, e := range u.Environment {
		text += "EnvironmentFile=" + e + "\n"
	}
	for _, c := range u.Credentials {
		text += "LoadCredential=" + strings.TrimSuffix(path.Base(c), path.Ext(c)) + ":" + c + "\n"
	}
	text += "ExecStart=" + u.Exec + "\n"
	if u.Reload != nil {
		text += "ExecReload=/bin/kill -HUP $MAINPID\n"
	}
	text += u.Text
	h.Write("/etc/systemd/system/"+u.Name, File{Content: []byte(text)})
	if u.State == "" {
		u.State = "inactive"
	}
	h.lock.Lock()
	h.units[u.Name] = &u
	h.lock.Unlock()
	if u.Enabled {
		h.Restart(u.Name)
	}
}

// SetCrontab gives a user a crontab of its own.
func (h *Host) SetCrontab(user, text string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.crontabs[user] = text
}

// Restart starts a unit anew; its program decides how that ends.
func (h *Host) Restart(name string) bool {
	h.lock.Lock()
	u := h.units[name]
	if u == nil {
		h.lock.Unlock()
		return false
	}
	u.starts++
	u.started = time.Now()
	sum := md5.Sum([]byte(fmt.Sprintf("%s/%s/%d", h.Name, name, u.starts)))
	u.Invocation, u.State, u.Words = hex.EncodeToString(sum[:]), "active", ""
	for _, before := range u.After {
		if other := h.units[before]; other != nil && other.State != "active" {
			u.State, u.Words = "failed", "Dependency failed: "+before
		}
	}
	program := u.Program
	failed := u.State == "failed"
	h.lock.Unlock()
	if failed || program == nil {
		return !failed
	}
	err := program(h)
	h.lock.Lock()
	defer h.lock.Unlock()
	if err != nil {
		u.State, u.Words = "failed", err.Error()
		return false
	}
	return true
}

// Trigger has a socket or a timer start a unit.
func (h *Host) Trigger(name, by string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if u := h.units[name]; u != nil {
		u.TriggeredBy = by
	}
}

// Crash has a unit fail.
func (h *Host) Crash(name string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if u := h.units[name]; u != nil {
		u.State, u.Words = "failed", "main process exited, code=dumped, status=11/SEGV"
	}
}

// UnitState returns state and starts of a unit.
func (h *Host) UnitState(name string) (state string, starts int) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if u := h.units[name]; u != nil {
		return u.State, u.starts
	}
	return "", 0
}

// PasswordOf returns a user's password, for tests.
func (h *Host) PasswordOf(name string) string {
	h.lock.Lock()
	defer h.lock.Unlock()
	if u := h.user(name); u != nil {
		return u.Password
	}
	return ""
}

// SetGroups puts a user into groups, and out of all others; processes that run keep theirs.
func (h *Host) SetGroups(name string, groups ...string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if u := h.user(name); u != nil {
		u.Groups = groups
	}
}

// InGroup reports whether a process of a user that begins now is in a group.
func (h *Host) InGroup(name, group string) bool {
	h.lock.Lock()
	defer h.lock.Unlock()
	u := h.user(name)
	return u != nil && slices.Contains(u.Groups, group)
}

// Log returns the commands that ran.
func (h *Host) Log() []string {
	h.lock.Lock()
	defer h.lock.Unlock()
	return append([]string(nil), h.log...)
}

// SetFault makes the host misbehave from now on.
func (h *Host) SetFault(f Fault) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.fault = f
	if f.Down {
		for conn := range h.conns {
			_ = conn.Close()
		}
	}
}

func (h *Host) faultNow() Fault {
	h.lock.Lock()
	defer h.lock.Unlock()
	return h.fault
}

func (h *Host) user(name string) *User {
	for _, u := range h.users {
		if u.Name == name {
			return u
		}
	}
	return nil
}

// follow resolves symlinks, a few deep.
func (h *Host) follow(p string) *File {
	f := h.files[h.real(p)]
	return f
}

func (h *Host) real(p string) string {
	for range 8 {
		f := h.files[p]
		if f == nil || f.Symlink == "" {
			return p
		}
		if path.IsAbs(f.Symlink) {
			p = f.Symlink
		} else {
			p = path.Join(path.Dir(p), f.Symlink)
		}
	}
	return p
}

// may reports whether a user may read (4) or write (2) a file.
func (f *File) may(u *User, bit uint32) bool {
	switch {
	case u.UID == 0:
		return true
	case f.Owner == u.Name:
		return f.Mode>>6&bit != 0
	case f.Group == u.Name || contains(u.Groups, f.Group):
		return f.Mode>>3&bit != 0
	}
	return f.Mode&bit != 0
}

func contains(list []string, want string) bool {
	for _, v := range list {
		if v == want {
			return true
		}
	}
	return false
}
