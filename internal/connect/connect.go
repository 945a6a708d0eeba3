// Package connect is the contract between the rest of the program and the
// systems it reaches.
//
// A connector handles one kind of system. What its kind is and can do it says in
// a Description, which is data: options with their types, scopes, acts. Command
// line, API, forms, documents and checks of input are made of it, so that a new
// kind is a folder and a line. What a kind cannot do it inherits from Cannot.
// Everything that crosses the contract is a plain value that survives being
// written down and read again (package remote does), so that a connector can run
// in another process inside a network segment that the service cannot reach.
//
// A connector holds no state between calls but for sessions that the caller
// keeps (KeepSessions), and may be called from many goroutines. Every call honours its context, ends within it, and names the
// system, the stage and the system's own words when it fails (Failure). After
// an unclear outcome a connector says so and never repeats by itself.
//
// Package conformance holds the test suite that every connector, and every
// stand-in through its connector, must pass.
package connect

import (
	"context"
	"errors"
	"fmt"
	"sort"
	"sync"
	"time"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/secret"
)

// Stage of an attempt to do something on a system, in their order.
type Stage string

// Stages. The first six belong to every attempt; the others name acts.
const (
	StageResolve   Stage = "resolve"
	StageConnect   Stage = "connect"
	StageSecure    Stage = "secure"
	StageSignIn    Stage = "sign in"
	StagePermitted Stage = "permitted"
	StageRead      Stage = "read"
	StageChange    Stage = "change"
	StageReplace   Stage = "replace"
	StageRestart   Stage = "restart"
	StageProve     Stage = "prove"
)

// Failure is how every connector says that something did not work.
type Failure struct {
	System  string `json:"system"` // name of the system
	Stage   Stage  `json:"stage"`
	Words   string `json:"words"`             // the system's own words, without secrets
	Next    string `json:"next,omitempty"`    // what to do next
	Code    string `json:"code"`              // short machine-readable cause, see the Code constants
	Unclear bool   `json:"unclear,omitempty"` // the act may have taken effect
	Err     error  `json:"-"`                 // what it was made of, on this side of a wire only
}

// Codes of failures that callers decide by.
const (
	CodeUnknownName    = "unknown-name"
	CodeUnreachable    = "unreachable"
	CodeTimeout        = "timeout"
	CodeUntrusted      = "untrusted"       // certificate or host key
	CodeNewHostKey     = "new-host-key"    // first sight: needs approval
	CodeStewardRefused = "steward-refused" // the system refused our steward
	CodeNotPermitted   = "not-permitted"   // signed in, but lacks a right
	CodePolicy         = "policy"          // the system's password policy refused the value
	CodeGone           = "gone"            // the account, unit or file is not there
	CodeProtocol       = "protocol"        // the system answered garbage
	CodeFailed         = "failed"          // the act was refused or failed otherwise
	CodeCannot         = "cannot"          // systems of this kind do not offer it
	CodeUnproven       = "unproven"        // a sign-in was refused for a reason that says nothing of the value
)

func (f *Failure) Error() string {
	text := fmt.Sprintf("%s: %s: %s", f.System, f.Stage, f.Words)
	if f.Next != "" {
		text += " (" + f.Next + ")"
	}
	return text
}

func (f *Failure) Unwrap() error { return f.Err }

// IsUnclear reports whether the act behind an error may have taken effect.
// An error that is no Failure counts as unclear.
func IsUnclear(err error) bool {
	var f *Failure
	if errors.As(err, &f) {
		return f.Unclear
	}
	return err != nil
}

// CodeOf returns the code of a Failure, or "".
func CodeOf(err error) string {
	var f *Failure
	if errors.As(err, &f) {
		return f.Code
	}
	return ""
}

// Steward is how to sign in to a system.
type Steward struct {
	Account    string // user name, DN or principal name, as the system wants it
	Password   secret.Value
	PrivateKey secret.Value // PEM, for SSH
}

// Target is a system with all that is needed to reach it.
type Target struct {
	SystemID  string
	Name      string
	Kind      estate.Kind
	Address   string
	Port      int // 0 for the kind's default
	Options   map[string]string
	Steward   Steward
	TrustedCA string   // PEM; empty for the machine's own trust store
	HostKeys  []string // approved fingerprints (SSH)
	Identity  string   // that the system proved before, see Facts; "" when unknown
}

// Fail makes a Failure for a target.
func (t Target) Fail(stage Stage, code, words, next string, err error) *Failure {
	return &Failure{System: t.Name, Stage: stage, Code: code, Words: words, Next: next, Err: err}
}

// Unproven makes a Failure of a verdict that says nothing of the value.
func (t Target) Unproven(v Verdict) *Failure {
	return t.Fail(StageSignIn, CodeUnproven, v.Words, "the account is refused whatever is given ("+v.Code+"): that says nothing of the value; unlock or enable it, and find what locks it", nil)
}

// Lost makes a Failure of a connection that was lost. sent says that the act
// may have begun.
func (t Target) Lost(stage Stage, err error, sent bool) *Failure {
	f := t.Fail(stage, CodeUnreachable, err.Error(), "the connection was lost", err)
	if isTimeout(err) {
		f.Code = CodeTimeout
	}
	f.Unclear = sent
	return f
}

// StageResult is one line of a check.
type StageResult struct {
	Stage  Stage         `json:"stage"`
	OK     bool          `json:"ok"`
	Took   time.Duration `json:"took"`
	Detail string        `json:"detail,omitempty"` // what was found, or the system's own words
	Next   string        `json:"next,omitempty"`
	Code   string        `json:"code,omitempty"`
}

// Facts are what a check or a visit learns of the system as a whole.
type Facts struct {
	Flavor      string            `json:"flavor,omitempty"`  // windows-schema, rfc-schema; os name
	Domains     []string          `json:"domains,omitempty"` // NetBIOS and DNS names of a directory
	Trusts      []Trust           `json:"trusts,omitempty"`  // other domains whose accounts may sign in
	BaseDN      string            `json:"base_dn,omitempty"`
	Identity    string            `json:"identity,omitempty"`    // machine id, domain SID, id of a directory's topmost entry
	Fingerprint string            `json:"fingerprint,omitempty"` // of the SSH host key offered, SHA256:...
	KeyType     string            `json:"key_type,omitempty"`
	Certificate string            `json:"certificate,omitempty"` // subject, issuer, end
	Version     string            `json:"version,omitempty"`
	Booted      time.Time         `json:"booted,omitzero"`
	Reboot      string            `json:"reboot,omitempty"` // why a restart of the host is due
	ClockOff    time.Duration     `json:"clock_off,omitempty"`
	Policy      map[string]string `json:"policy,omitempty"` // password policy in force
}

// Trust is a domain that a domain trusts ([MS-ADTS], section 6.1.6.7).
type Trust struct {
	Names []string `json:"names"` // NetBIOS and DNS names
	SID   string   `json:"sid,omitempty"`
}

// CheckReport is the answer of Check.
type CheckReport struct {
	Stages []StageResult `json:"stages"`
	Facts  Facts         `json:"facts"`
}

// OK reports whether every stage succeeded.
func (r CheckReport) OK() bool {
	for _, s := range r.Stages {
		if !s.OK {
			return false
		}
	}
	return len(r.Stages) > 0
}

// Connector reaches one kind of system.
type Connector interface {
	Describe() Description
	// Check goes through the stages and stops at the first that fails.
	Check(ctx context.Context, target Target) CheckReport

	Visitor
	Asker
	Verifier
	Accepter
	Ruler
	Admitter
	Holder
	LogOnKeeper
	Restarter
	Commander
	Rehearser
	Diagnoser
	Lister
	Observer
	Recorder
	RightsReader
	Preparer
	Proposer
	Amender
	Ender
	Trier
	Reacher
	Certifier
	Shower
	Manager
}

// Scopes of a visit. A scope that was read completely may mark what it did
// not see as gone; no other may.
const (
	ScopeAccounts = "accounts"
	ScopeUnits    = "units"
	ScopeCron     = "cron"
	ScopeFiles    = "files"
	ScopeKeys     = "keys" // that an issuer accepts
	ScopeServices = "services"
	ScopeTasks    = "tasks"
	ScopePools    = "pools"
	ScopeSessions = "sessions" // who is signed in now
	ScopeSockets  = "sockets"  // connections and listening ports

	ScopeProcesses = "processes" // what running programs hold

	ScopeCertificates = "certificates" // what ports that speak TLS show
)

// Scopes lists the scopes in the order in which they are told.
func Scopes() []string {
	return []string{ScopeAccounts, ScopeUnits, ScopeServices, ScopeTasks, ScopePools, ScopeCron, ScopeFiles, ScopeKeys, ScopeSessions, ScopeSockets, ScopeProcesses, ScopeCertificates}
}

// VisitRequest says how to read.
type VisitRequest struct {
	FingerprintKey secret.Value // key for fingerprints of held values
	Known          []string     // fingerprints of values in custody: report them wherever they stand
	Names          []string     // names of accounts to look for in files
	// Values are those in custody, to be recognised in the bytes of files,
	// whatever their layout. They stay on this side of the connection.
	Values []secret.Value
	// Rights asks for who may do what along the way, where a kind sees it there; others are
	// asked by RightsReader.
	Rights bool
	// Whole asks also for what takes a question for each thing, and is not asked each time.
	Whole bool
	// Resting are the stable ids of accounts that rest while another one has its turn: they
	// are read although they may not sign in.
	Resting []string
}

// Unread is something that could not be read or understood; the visit goes on.
type Unread struct {
	Stage Stage  `json:"stage"`
	Place string `json:"place"` // file and line, entry, unit
	What  string `json:"what"`
	Next  string `json:"next,omitempty"`
}

// Batch is a part of what a visit saw.
type Batch struct {
	Facts      *Facts // before anything else, where a kind knows so early whom it speaks to
	Accounts   []estate.Account
	Dependents []estate.Dependent
	Sessions   []estate.Session
	Sockets    []estate.Socket
	Uses       []estate.Use // log-ons that the system recorded
	Rights     *Rights
	Problems   []Unread
}

// Coverage says what a visit read.
type Coverage struct {
	Facts    Facts             `json:"facts"`
	Complete map[string]bool   `json:"complete"`      // by scope
	Why      map[string]string `json:"why,omitempty"` // of scopes that are not complete
	Counts   map[string]int    `json:"counts"`        // by scope
	Stages   []StageResult     `json:"stages"`
	Rights   *RightsCoverage   `json:"rights,omitempty"` // where they were read along the way
}

// Visitor reads a system. emit is called with batches as they are read, never
// concurrently; an error from it ends the visit. A Failure is returned when
// nothing, or not everything, could be read; the Coverage is valid in any case.
type Visitor interface {
	Visit(ctx context.Context, target Target, request VisitRequest, emit func(Batch) error) (Coverage, error)
}

// Presence is what asking for one account says.
type Presence string

// Presences.
const (
	PresenceThere   Presence = "there"
	PresenceGone    Presence = "gone"    // its place can be seen, and it is not there
	PresenceUnknown Presence = "unknown" // its place cannot be seen either
)

// Asker asks for single accounts that a complete reading did not see (law 4).
// The answer has an entry for each.
type Asker interface {
	StillThere(ctx context.Context, target Target, accounts []AccountRef) ([]Presence, error)
}

// AccountRef names an account on its authority.
type AccountRef struct {
	StableID string
	Name     string
	DN       string
}

// Verifier signs in as an account. A refusal is a Verdict, not an error.
type Verifier interface {
	Verify(ctx context.Context, target Target, account AccountRef, value secret.Value) (Verdict, error)
}

// PasswordRules are what an authority demands of a new password.
type PasswordRules struct {
	Shortest int    // characters; 0 for no rule
	Longest  int    // 0 for no rule
	From     string // what says so, in words
	Unknown  string // what could not be read, and why; "" when all is known
}

// Ruler tells the rules that apply to an account.
type Ruler interface {
	PasswordRules(ctx context.Context, target Target, account AccountRef) (PasswordRules, error)
}

// CopyState says what stands at places of a file.
type CopyState struct {
	Digest string         // SHA-256 of the whole file
	Found  []secret.Value // at each place asked for, in order
}

// Holder reads and replaces held copies in files. Replace replaces the values
// at all places at once: with bytes outside the places, owner, mode and access
// lists kept, by atomic rename. It refuses when a place holds neither old nor
// value.
type Holder interface {
	ReadCopies(ctx context.Context, target Target, path string, places []held.Locator) (CopyState, error)
	ReplaceCopies(ctx context.Context, target Target, path string, places []held.Locator, old, value secret.Value) error
}

// LogOnState is what a dependent logs on as, as its system keeps it.
type LogOnState struct {
	Account string       // exactly as configured
	Stores  bool         // a password is kept with it
	Value   secret.Value // that password, where the system shows it
	Shown   bool         // it does
}

// LogOnChange gives a dependent a log-on.
type LogOnChange struct {
	Place   estate.Place
	Was     string       // the account it must have now (or Account already); "" for any
	Account string       // the account to write, in the spelling to write
	Value   secret.Value // its password; empty for identities without one
}

// LogOnKeeper reads and replaces the log-on that a system keeps for a
// dependent. Replace answers with the system's own return code and its
// meaning. Giving the same log-on again is harmless.
type LogOnKeeper interface {
	ReadLogOn(ctx context.Context, target Target, place estate.Place) (LogOnState, error)
	ReplaceLogOn(ctx context.Context, target Target, change LogOnChange) (words string, err error)
}

// Commander runs a check command on a system as the steward.
type Commander interface {
	RunCheck(ctx context.Context, target Target, command string) (output string, exit int, err error)
}

// Intention is something a rotation would do on a system.
type Intention struct {
	Change  *AccountRef
	Turn    *AccountRef // with Change: the account in whose place that one comes; nil where a value changes at its account
	Replace string      // path
	Places  []held.Locator
	Restart estate.Place   // Kind "" for none
	Reload  bool           // instead of Restart
	Stop    estate.Place   // before the change; Kind "" for none
	Along   []estate.Place // what a restart takes down with it, or is stopped as well, as the plan knows it
	LogOn   *LogOnChange
	Entries *EntryChange // of a file of entries
	Certify []string     // names that a certificate is asked for
	Current secret.Value
	Next    secret.Value // of Replace: the new value, or one like it; empty where that is not known
}

// Check result words.
const (
	CheckOK        = "ok"
	CheckFailed    = "failed"
	CheckUnchecked = "unchecked"
	CheckWarning   = "warning"
)

// AboutLockout: wrong passwords lock the account.
const AboutLockout = "lockout"

// AboutVerifier: what the system keeps of the password becomes of another kind.
const AboutVerifier = "verifier"

// Checked is one line of a rehearsal.
type Checked struct {
	System string `json:"system"`
	What   string `json:"what"`
	Result string `json:"result"` // ok, failed, unchecked, warning
	Words  string `json:"words,omitempty"`
	Next   string `json:"next,omitempty"`

	// About names what the line is about, where what is known elsewhere bears on it.
	About string `json:"about,omitempty"`
}

// Rehearser tells what can be told without changing anything.
type Rehearser interface {
	Rehearse(ctx context.Context, target Target, intentions []Intention) []Checked
}

var (
	registryLock sync.RWMutex
	registry     = map[estate.Kind]Connector{}
)

// Register makes a connector known. It panics on a second one of a kind.
func Register(c Connector) {
	registryLock.Lock()
	defer registryLock.Unlock()
	kind := c.Describe().Kind
	if registry[kind] != nil {
		panic("connect: two connectors for " + string(kind))
	}
	registry[kind] = c
	estate.Declare(kind, c.Describe().Class)
}

// For returns the connector of a kind.
func For(kind estate.Kind) (Connector, bool) {
	registryLock.RLock()
	defer registryLock.RUnlock()
	c, ok := registry[kind]
	return c, ok
}

// Kinds lists the registered kinds in order.
func Kinds() []estate.Kind {
	registryLock.RLock()
	defer registryLock.RUnlock()
	var out []estate.Kind
	for kind := range registry {
		out = append(out, kind)
	}
	sort.Slice(out, func(i, j int) bool { return out[i] < out[j] })
	return out
}
