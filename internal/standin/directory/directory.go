// Package directory is a stand-in for an LDAP directory: it speaks LDAP
// version 3 over TLS for real and enforces what a real directory enforces
// (sign-in, account flags, password policy, rights), with its entries in
// memory. It ships for the demonstration estate and for tests on machines
// where no real directory runs.
//
// Two flavors: the Windows-domain schema (unicodePwd, objectGUID, account
// control flags, result texts with data codes) and the plain RFC schema
// (entryUUID, the password modify operation of RFC 3062).
package directory

import (
	"crypto/sha256"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/privilege/descriptor"
)

// Config says what to serve.
type Config struct {
	Base    string // DC=larkmoor,DC=example
	NetBIOS string // LARKMOOR; with the Windows flavor
	Windows bool
	MinLen  int // least password length; 0 for 7
	History int // passwords remembered (RFC flavor)
	TLS     *tls.Config
	Forest  string // DN of the forest's topmost domain, of a child domain; Base by default
	Now     func() time.Time
	Timed   bool          // memberships may be given for a while: an optional feature of the forest
	Level   int           // functional level of the domain, its forest and its controller; 7 by default
	Former  time.Duration // for how long after a change the password before it still binds; real ones of the Windows flavor: an hour
}

// Entry is one object of the directory. Attribute names are kept as written.
type Entry struct {
	DN         string
	Attributes map[string][]string
	Password   string // "" for no password
	Admin      bool   // may reset passwords and write attributes, whatever descriptors say
	Disabled   bool
	Locked     bool
	Expired    bool // the account's end date has passed
	MustChange bool
	Never      bool // the password never expires
	Changed    time.Time
	KeyVersion int // of its Kerberos key; one more with every change of the password
	history    []string
	before     [2]string // the last two passwords: a domain does not count them as wrong
	wrong      int       // wrong passwords that count
	wrongAt    time.Time // the last of them
	lockedAt   time.Time // by them
	allowed    []descriptor.Entry
	timed      []link               // members that leave by themselves
	material   []byte               // of a root key
	joined     map[string]time.Time // since when members are in a group, by their normal names
}

// Server is a running stand-in.
type Server struct {
	config   Config
	lock     sync.Mutex
	entries  map[string]*Entry // by normal DN
	order    []string
	listener net.Listener
	conns    map[net.Conn]bool
	done     sync.WaitGroup
	closed   bool
	fault    Fault
	nextRID  uint32
}

// Fault makes the server misbehave; the zero Fault does not.
type Fault struct {
	CutAfterEntries int           // cut the connection in the middle of a page
	Garbage         bool          // answer searches with bytes that are no LDAP
	Referral        string        // answer searches with this referral as well
	RefuseChange    bool          // refuse password changes (53)
	ReadOnly        bool          // be a controller that takes no change, and refers to another one (10)
	LoseAnswer      bool          // take a password change into effect and cut the connection
	Hang            chan struct{} // answer nothing until it is closed
	Down            bool          // end every connection at once
	// Stale are passwords by distinguished name that sign-ins are judged by, as by a
	// controller to which a change has not come yet.
	Stale map[string]string
}

// New makes a server with the base entry. Add entries, then Serve.
func New(config Config) *Server {
	if config.MinLen == 0 {
		config.MinLen = 7
	}
	if config.Now == nil {
		config.Now = time.Now
	}
	s := &Server{config: config, entries: map[string]*Entry{}, conns: map[net.Conn]bool{}, nextRID: 1100}
	base := map[string][]string{"objectClass": {"top", "domain"}}
	if config.Windows {
		base["objectSid"] = []string{string(s.sid(0))}
		base["minPwdLength"] = []string{"7"}
		base["lockoutThreshold"] = []string{strconv.Itoa(lockoutThreshold)}
		span := fmt.Sprint(-int64(lockoutTime / 100))
		base["lockOutObservationWindow"], base["lockoutDuration"] = []string{span}, []string{span}
		base["pwdHistoryLength"] = []string{"24"}
	}
	s.Add(Entry{DN: config.Base, Attributes: base})
	if config.Windows {
		configuration := "CN=Configuration," + s.forest()
		s.Add(Entry{DN: configuration, Attributes: map[string][]string{"objectClass": {"configuration"}}})
		partitions := map[string][]string{"objectClass": {"crossRefContainer"}}
		if config.Timed {
			partitions["msDS-EnabledFeature"] = []string{"CN=Privileged Access Management Feature,CN=Optional Features,CN=Directory Service,CN=Windows NT,CN=Services," + configuration}
		}
		s.Add(Entry{DN: "CN=Partitions," + configuration, Attributes: partitions})
		s.Add(Entry{DN: "CN=" + config.NetBIOS + ",CN=Partitions," + configuration, Attributes: map[string][]string{
			"objectClass": {"crossRef"}, "nCName": {config.Base}, "nETBIOSName": {config.NetBIOS},
		}})
		s.addManaged()
	}
	return s
}

// forest is the topmost domain.
func (s *Server) forest() string {
	if s.config.Forest != "" {
		return s.config.Forest
	}
	return s.config.Base
}

func (s *Server) sid(rid uint32) []byte {
	out := []byte{1, 4, 0, 0, 0, 0, 0, 5}
	if rid != 0 {
		out[1] = 5
	}
	out = binary.LittleEndian.AppendUint32(out, 21)
	// The domain's own part follows from its name: another domain has another.
	domain := sha256.Sum256([]byte(normal(s.config.Base)))
	out = append(out, domain[:12]...)
	if rid != 0 {
		out = binary.LittleEndian.AppendUint32(out, rid)
	}
	return out
}

// Add puts an entry in, with a stable id of its own.
func (s *Server) Add(e Entry) {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.put(e)
}

func (s *Server) put(e Entry) {
	key := normal(e.DN)
	if e.Attributes == nil {
		e.Attributes = map[string][]string{}
	}
	id := uuid.NewSHA1(uuid.NameSpaceX500, []byte(key))
	if s.config.Windows {
		if e.Attributes["objectGUID"] == nil {
			e.Attributes["objectGUID"] = []string{string(id[:])}
		}
		if e.Attributes["objectSid"] == nil && e.Attributes["sAMAccountName"] != nil {
			s.nextRID++
			e.Attributes["objectSid"] = []string{string(s.sid(s.nextRID))}
		}
		if e.Attributes[descriptorAttribute] == nil {
			e.Attributes[descriptorAttribute] = []string{string(s.described(&e))}
		}
	} else {
		e.Attributes["entryUUID"] = []string{id.String()}
	}
	if e.Changed.IsZero() {
		e.Changed = s.config.Now()
	}
	e.joined = map[string]time.Time{}
	if s.entries[key] == nil {
		s.order = append(s.order, key)
	}
	s.entries[key] = &e
}

// Remove deletes an entry.
func (s *Server) Remove(dn string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	key := normal(dn)
	delete(s.entries, key)
	for i, k := range s.order {
		if k == key {
			s.order = append(s.order[:i], s.order[i+1:]...)
			break
		}
	}
}

// Update changes an entry under the server's lock.
func (s *Server) Update(dn string, change func(*Entry)) {
	s.lock.Lock()
	defer s.lock.Unlock()
	if e := s.entries[normal(dn)]; e != nil {
		change(e)
	}
}

// Accepts reports whether a sign-in with a password would succeed now. It is
// what simulated services ask at start.
func (s *Server) Accepts(name, password string) bool {
	code, _ := s.bind(name, password)
	return code == 0
}

// SetFault makes the server misbehave from now on.
func (s *Server) SetFault(f Fault) {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.fault = f
	if f.Down {
		for conn := range s.conns {
			_ = conn.Close()
		}
	}
}

// SetFormer says for how long after a change the password before it still binds.
func (s *Server) SetFormer(lasts time.Duration) {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.config.Former = lasts
}

// Wrong is when the last wrong password was given for an entry; zero for never.
func (s *Server) Wrong(dn string) (last time.Time) {
	s.Update(dn, func(e *Entry) { last = e.wrongAt })
	return last
}

// Forget makes it as in a domain that keeps no history of passwords: former ones of an
// entry count as wrong.
func (s *Server) Forget(dn string) { s.Update(dn, func(e *Entry) { e.before = [2]string{} }) }

// Down reports whether it refuses connections.
func (s *Server) Down() bool { return s.faultNow().Down }

func (s *Server) faultNow() Fault {
	s.lock.Lock()
	defer s.lock.Unlock()
	return s.fault
}

func normal(dn string) string {
	n, err := naming.NormalDN(dn)
	if err != nil {
		return strings.ToLower(dn)
	}
	return n
}

// Serve listens on address and serves until Close. It returns the address.
func (s *Server) Serve(address string) (string, error) {
	listener, err := tls.Listen("tcp", address, s.config.TLS)
	if err != nil {
		return "", err
	}
	s.listener = listener
	s.done.Add(1)
	go func() {
		defer s.done.Done()
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			s.lock.Lock()
			if s.closed {
				s.lock.Unlock()
				_ = conn.Close()
				return
			}
			if s.fault.Down {
				s.lock.Unlock()
				_ = conn.Close()
				continue
			}
			s.conns[conn] = true
			s.done.Add(1)
			s.lock.Unlock()
			go func() {
				defer s.done.Done()
				s.serve(conn)
				s.lock.Lock()
				delete(s.conns, conn)
				s.lock.Unlock()
			}()
		}
	}()
	return listener.Addr().String(), nil
}

// Close ends the server and its connections.
func (s *Server) Close() error {
	s.lock.Lock()
	s.closed = true
	for conn := range s.conns {
		_ = conn.Close()
	}
	s.lock.Unlock()
	var err error
	if s.listener != nil {
		err = s.listener.Close()
	}
	s.done.Wait()
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

// bind decides a sign-in: an LDAP result code and the text that goes with it.
func (s *Server) bind(name, password string) (int, string) {
	if name == "" || password == "" {
		return 0, "" // anonymous, RFC 4513 section 5.1
	}
	return s.Judge(name, func(known string) bool { return known == password })
}

// Judge answers a sign-in whose proof is checked against the password by
// proves, as a domain controller does for a host: an LDAP result and its words.
func (s *Server) Judge(name string, proves func(password string) bool) (int, string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	refuse := func(data string) (int, string) {
		if !s.config.Windows {
			return 49, ""
		}
		return 49, "80090308: LdapErr: DSID-0C090400, comment: AcceptSecurityContext error, data " + data + ", v1db1"
	}
	e := s.find(name)
	if e == nil {
		return refuse("525")
	}
	password := e.Password
	if old, stale := s.fault.Stale[e.DN]; stale {
		password = old
	}
	now := s.config.Now()
	s.lockEnds(e, now)
	switch {
	case e.Locked || !e.lockedAt.IsZero():
		return refuse("775")
	case e.before[0] != "" && now.Sub(e.Changed) < s.former(e) && proves(e.before[0]):
		return 0, ""
	case password == "" || !proves(password):
		s.countWrong(e, now, proves)
		return refuse("52e")
	case e.Disabled:
		return refuse("533")
	case e.ended(now):
		return refuse("701")
	case e.MustChange:
		return refuse("773")
	case s.passwordEnded(e):
		return refuse("532")
	}
	e.wrong = 0
	return 0, ""
}

// former is for how long after a change the password before it still signs in.
func (s *Server) former(e *Entry) time.Duration {
	if isManaged(e) {
		return max(s.config.Former, formerManaged)
	}
	return s.config.Former
}

// The lock-out policy of the Windows flavor, as administrators are told to set it.
const (
	lockoutThreshold = 5
	lockoutTime      = 30 * time.Minute // that wrong passwords count, and that a lock lasts
)

// countWrong counts a wrong password, and locks the account when there are too many.
func (s *Server) countWrong(e *Entry, now time.Time, proves func(string) bool) {
	if !s.config.Windows {
		return
	}
	for _, old := range e.before {
		if old != "" && proves(old) {
			return
		}
	}
	if now.Sub(e.wrongAt) >= lockoutTime {
		e.wrong = 0
	}
	e.wrong++
	e.wrongAt = now
	if e.wrong >= lockoutThreshold {
		e.lockedAt = now
	}
}

func (s *Server) lockEnds(e *Entry, now time.Time) {
	if !e.lockedAt.IsZero() && now.Sub(e.lockedAt) >= lockoutTime {
		e.lockedAt, e.wrong = time.Time{}, 0
	}
}

// maxAge is how long a password lasts in the Windows flavor.
const maxAge = 90 * 24 * time.Hour

func (s *Server) passwordEnded(e *Entry) bool {
	return s.config.Windows && !e.Never && !trusted(e) && !e.Changed.IsZero() && s.config.Now().After(e.Changed.Add(maxAge))
}

// find takes a name as a bind does: DN, user@domain, DOMAIN\name.
func (s *Server) find(name string) *Entry {
	if e := s.entries[normal(name)]; e != nil {
		return e
	}
	if !s.config.Windows {
		return nil
	}
	ref, err := naming.Parse(name)
	if err != nil {
		return nil
	}
	for _, key := range s.order {
		e := s.entries[key]
		if sam := first(e, "sAMAccountName"); sam != "" && naming.Fold(sam) == ref.Name && ref.Form != naming.FormName {
			return e
		}
		if upn := first(e, "userPrincipalName"); upn != "" && strings.EqualFold(upn, name) {
			return e
		}
	}
	return nil
}

func first(e *Entry, attribute string) string {
	for name, values := range e.Attributes {
		if strings.EqualFold(name, attribute) && len(values) > 0 {
			return values[0]
		}
	}
	return ""
}

// setPassword applies the policy and sets a password: a result code and text.
func (s *Server) setPassword(e *Entry, password string) (int, string) {
	weak := len(password) < s.config.MinLen
	if s.config.Windows {
		classes := 0
		for _, class := range []string{"abcdefghijklmnopqrstuvwxyz", "ABCDEFGHIJKLMNOPQRSTUVWXYZ", "0123456789", "-_.~!@#$%^&*()+={}[]|:;\"'<>,?/\\` "} {
			if strings.ContainsAny(password, class) {
				classes++
			}
		}
		name := first(e, "sAMAccountName")
		weak = weak || classes < 3 || len(name) >= 3 && strings.Contains(strings.ToLower(password), strings.ToLower(name))
		if weak {
			return 19, "0000052D: Constraint violation - check_password_restrictions: the password does not meet the complexity criteria!"
		}
	}
	if weak {
		return 19, "Password fails quality checking policy"
	}
	if !s.config.Windows && s.config.History > 0 {
		for _, old := range append(e.history, e.Password) {
			if old == password {
				return 19, "Password is in history of old passwords"
			}
		}
		e.history = append(e.history, e.Password)
		if len(e.history) > s.config.History {
			e.history = e.history[1:]
		}
	}
	e.before = [2]string{e.Password, e.before[0]}
	e.Password, e.Changed, e.MustChange = password, s.config.Now(), false
	e.KeyVersion++
	if !s.config.Windows {
		e.Locked = false // as real ones do: a reset silently unlocks
	}
	return 0, ""
}
