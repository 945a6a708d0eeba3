// Package estate holds the nouns: systems, accounts, dependents and the ties
// between them, with the identities that tell them apart.
//
// Identity is not a name. A system has an id given when it was added. An
// account is known by its system and a stable id that the system itself keeps
// through renames: a SID or objectGUID or entryUUID in a directory, the host's
// machine id and the numeric uid on a unix host. A dependent is known by its
// system, its kind and its place there (unit name, file path, cron line).
// Names are labels that may change and may be shared.
package estate

import (
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
)

// Kind says what sort of system it is.
type Kind string

// Kinds that rules know by name. Others are named by their connectors.
const (
	KindDirectory   Kind = "directory"
	KindUnixHost    Kind = "unix-host"
	KindWindowsHost Kind = "windows-host"
	KindPostgreSQL  Kind = "postgresql"
	KindMariaDB     Kind = "mariadb"
	KindRedis       Kind = "redis"
)

// Class is what systems of a kind have in common with those of others.
type Class string

// Classes.
const (
	ClassDirectory Class = "directory"  // its accounts are used elsewhere
	ClassHost      Class = "host"       // it has local accounts and runs programs
	ClassDataStore Class = "data-store" // it keeps data behind accounts of its own
	ClassOther     Class = "other"
)

var (
	classLock sync.RWMutex
	classes   = map[Kind]Class{
		KindDirectory: ClassDirectory, KindUnixHost: ClassHost, KindWindowsHost: ClassHost,
		KindPostgreSQL: ClassDataStore, KindMariaDB: ClassDataStore, KindRedis: ClassDataStore,
	}
)

// Declare makes a kind known with its class. Connectors do it when they are
// registered, so that a new kind needs no change here.
func Declare(kind Kind, class Class) {
	classLock.Lock()
	defer classLock.Unlock()
	classes[kind] = class
}

// Kinds lists all that are known, in order.
func Kinds() []Kind {
	classLock.RLock()
	defer classLock.RUnlock()
	return slices.Sorted(maps.Keys(classes))
}

// Class of a kind; ClassOther for one that is not known.
func (k Kind) Class() Class {
	classLock.RLock()
	defer classLock.RUnlock()
	if c, known := classes[k]; known {
		return c
	}
	return ClassOther
}

// IsHost reports whether systems of this kind have local accounts and run
// programs.
func (k Kind) IsHost() bool { return k.Class() == ClassHost }

// IsDataStore reports whether systems of this kind keep data behind accounts of
// their own.
func (k Kind) IsDataStore() bool { return k.Class() == ClassDataStore }

// System is anything that can be reached.
type System struct {
	ID          string            `json:"id"`
	Name        string            `json:"name"`
	Kind        Kind              `json:"kind"`
	Address     string            `json:"address"` // host name or IP address
	Port        int               `json:"port"`
	Steward     string            `json:"steward"` // name of the account by which it is reached
	Site        string            `json:"site"`
	Environment string            `json:"environment"`
	Owner       string            `json:"owner"`
	Options     map[string]string `json:"options"`
}

// Account is an identity that programs use, as a survey saw it.
type Account struct {
	StableID    string   `json:"stable_id"`
	Name        string   `json:"name"`                   // sAMAccountName, uid or user name
	DN          string   `json:"dn,omitempty"`           // distinguished name, in directories
	UPN         string   `json:"upn,omitempty"`          // user principal name, in directories
	SID         string   `json:"sid,omitempty"`          // security identifier, in directories
	FormerSIDs  []string `json:"former_sids,omitempty"`  // that it had in domains that it was moved from
	UID         string   `json:"uid,omitempty"`          // numeric user id, on hosts
	Type        string   `json:"type"`                   // user, managed, computer, local, system
	DisplayName string   `json:"display_name,omitempty"` // of people and well-kept accounts
	Description string   `json:"description,omitempty"`
	Owner       string   `json:"owner,omitempty"`
	Enabled     Tristate `json:"enabled"`
	Locked      Tristate `json:"locked"`
	MustChange  bool     `json:"must_change"`
	NeverExpire bool     `json:"never_expires"` // the password never expires

	PasswordChanged time.Time `json:"password_changed,omitzero"`
	PasswordExpires time.Time `json:"password_expires,omitzero"`
	AccountExpires  time.Time `json:"account_expires,omitzero"`
	LastLogOn       time.Time `json:"last_logon,omitzero"`
	EndsUnknown     string    `json:"ends_unknown,omitempty"` // why it is not known when the account, or its password, ends

	Groups     []string `json:"groups,omitempty"`     // effective, nested; names or DNs as the system gives them
	Principals []string `json:"principals,omitempty"` // service principal names
	Shell      string   `json:"shell,omitempty"`
	Home       string   `json:"home,omitempty"`
	KeyVersion int      `json:"key_version,omitempty"` // of its Kerberos key: one more with every change of the password
	Pair       string   `json:"pair,omitempty"`        // another account, by its name, that may take turns with it
	PairNot    string   `json:"pair_not,omitempty"`    // why it may not yet
}

// Tristate is yes, no or unknown: what could not be read is not guessed.
type Tristate string

// Values of a Tristate.
const (
	Yes     Tristate = "yes"
	No      Tristate = "no"
	Unknown Tristate = "unknown"
)

// Known turns a bool into a Tristate.
func Known(b bool) Tristate {
	if b {
		return Yes
	}
	return No
}

// DependentKind says what sort of place it is.
type DependentKind string

// Kinds of dependent.
const (
	DependentUnit    DependentKind = "unit"    // a system unit
	DependentCron    DependentKind = "cron"    // a cron entry
	DependentFile    DependentKind = "file"    // a place in a file that holds a copy
	DependentService DependentKind = "service" // a service of a windows host
	DependentTask    DependentKind = "task"    // a scheduled task of a windows host
	DependentPool    DependentKind = "pool"    // an application pool of a web server

	DependentKey         DependentKind = "key"            // a file that holds a private key
	DependentAuthorized  DependentKind = "authorized key" // an entry that lets the holder of a key in
	DependentKeytab      DependentKind = "key tab"        // a principal in a key tab
	DependentCertificate DependentKind = "certificate"
	DependentCloudKey    DependentKind = "cloud key" // a key file of a cloud service

	DependentIssued DependentKind = "issued key" // a key that its issuer accepts
	DependentShown  DependentKind = "tls port"   // a port behind which a certificate is shown

	DependentHost DependentKind = "host" // a host itself, as a whole: no survey has it as a dependent, and it is restarted

	DependentProcess  DependentKind = "process"  // a running program that holds a value no file explains, or that nothing would start again
	DependentDeclared DependentKind = "declared" // a place that only a person's word tells of
)

// LogsOn reports whether a dependent of this kind has a log-on of its own
// whose password the system keeps for it.
func (k DependentKind) LogsOn() bool {
	return k == DependentService || k == DependentTask || k == DependentPool
}

// Runs reports whether a dependent of this kind is a program that is up or
// down, and can be restarted.
func (k DependentKind) Runs() bool {
	return k == DependentUnit || k == DependentService || k == DependentPool
}

// Place names a dependent on a system: names alone may be shared by a service
// and a pool.
type Place struct {
	Kind  DependentKind `json:"kind"`
	Place string        `json:"place"`
}

// Identity says at a glance what sort of identity a dependent runs as.
type Identity string

// Identities.
const (
	IdentityNamed   Identity = "named"    // an account with a password that somebody must change
	IdentityManaged Identity = "managed"  // an account whose password the directory changes by itself
	IdentityVirtual Identity = "virtual"  // an identity that exists for this one dependent
	IdentityBuiltIn Identity = "built-in" // an identity of the machine itself
)

// Dependent is a place that runs as an account or holds a copy of a credential.
type Dependent struct {
	Kind        DependentKind `json:"kind"`
	Place       string        `json:"place"` // unit name; crontab path and line; file path and key
	Name        string        `json:"name"`
	Description string        `json:"description,omitempty"`
	RunsAs      string        `json:"runs_as,omitempty"` // the reference exactly as configured
	State       string        `json:"state,omitempty"`   // active, inactive, failed, ...
	StartMode   string        `json:"start_mode,omitempty"`
	Executable  string        `json:"executable,omitempty"`
	Schedule    string        `json:"schedule,omitempty"`
	Path        string        `json:"path,omitempty"`     // of the file that defines or holds it
	Uses        []string      `json:"uses,omitempty"`     // places of files it reads secrets from
	After       []string      `json:"after,omitempty"`    // units that start before it
	Requires    []string      `json:"requires,omitempty"` // units that take it down when they fail
	Copy        *Copy         `json:"copy,omitempty"`     // for held copies
	Key         *Key          `json:"key,omitempty"`      // for keys, their entries and certificates
	Stores      bool          `json:"stores,omitempty"`   // the system keeps the log-on's password for it
	Stored      string        `json:"stored,omitempty"`   // keyed fingerprint of that password, where the system shows it
	Reloads     bool          `json:"reloads,omitempty"`  // it can be told to read its files again while it runs
	Started     time.Time     `json:"started,omitzero"`   // when what runs now was started
	Result      string        `json:"result,omitempty"`   // of the last run, when it failed: the system's code and words
}

// At is the dependent's place.
func (d Dependent) At() Place { return Place{d.Kind, d.Place} }

// Up reports whether it runs or is on its way there.
func (d Dependent) Up() bool {
	switch d.State {
	case "active", "activating", "running", "start pending", "started":
		return true
	}
	return false
}

// ByItself reports whether it should be up whenever its system is.
func (d Dependent) ByItself() bool {
	switch d.StartMode {
	case "enabled", "automatic", "automatic (delayed)":
		return true
	}
	return false
}

// Copy describes a held copy without its value.
type Copy struct {
	Format      string   `json:"format"`               // env, url, whole
	Key         string   `json:"key,omitempty"`        // variable it stands in
	Nth         int      `json:"nth,omitempty"`        // which of several lines with that key
	Part        string   `json:"part,omitempty"`       // value, or url for the password inside one
	Line        int      `json:"line"`                 // 1-based
	Names       []string `json:"names,omitempty"`      // account references that stand beside it
	Fingerprint string   `json:"fingerprint"`          // keyed; see package secret
	Unreadable  string   `json:"unreadable,omitempty"` // why it could not be read
	Fixed       string   `json:"fixed,omitempty"`      // why it can be told, but not replaced
	Doubt       string   `json:"doubt,omitempty"`      // why the text alone does not make it a copy: a person decides
}

// Session is somebody who is signed in to a data store now.
type Session struct {
	StableID    string    `json:"stable_id"` // of the account there
	Account     string    `json:"account"`
	Client      string    `json:"client"` // IP address; "" for a local one
	Port        int       `json:"port,omitempty"`
	Application string    `json:"application,omitempty"` // as the client names itself
	Database    string    `json:"database,omitempty"`
	Since       time.Time `json:"since,omitzero"`
}

// Socket is one end of a TCP connection on a host, or a port that it listens on.
type Socket struct {
	Listens   bool   `json:"listens,omitempty"`
	Local     string `json:"local"` // IP address
	LocalPort int    `json:"local_port"`
	Peer      string `json:"peer,omitempty"`
	PeerPort  int    `json:"peer_port,omitempty"`
	UID       string `json:"uid,omitempty"`
	Unit      string `json:"unit,omitempty"` // that owns it
	Program   string `json:"program,omitempty"`
}

// Use is a log-on that a system recorded, one or many of the same kind.
type Use struct {
	Account string    `json:"account"` // as the record names it
	Client  string    `json:"client"`  // IP address
	How     string    `json:"how"`     // what was signed in to, and by which means
	Key     string    `json:"key,omitempty"`
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
	Count   int       `json:"count"`
	Failed  bool      `json:"failed,omitempty"` // it was refused
}

// FormatBytes is the format of a copy that no layout explains: the bytes of the
// file hold the value.
const FormatBytes = "bytes"

// FormatMention is the format of a copy that is none: the file only mentions
// an account.
const FormatMention = "mention"

// TypeServiceIdentity is the type of accounts that clouds give programs: keys prove them, and no
// password.
const TypeServiceIdentity = "service identity"

// Key describes a key, or what speaks of one, without its secret part.
type Key struct {
	Type        string    `json:"type,omitempty"`
	Bits        int       `json:"bits,omitempty"`
	Fingerprint string    `json:"fingerprint,omitempty"` // of the public half, as SSH writes it
	Public      string    `json:"public,omitempty"`      // the same as certificates have it
	Encrypted   bool      `json:"encrypted,omitempty"`   // a passphrase protects it
	Mode        string    `json:"mode,omitempty"`        // of the file, octal
	Comment     string    `json:"comment,omitempty"`
	Options     []string  `json:"options,omitempty"` // restrictions of an entry: from=, command= ...
	Lets        string    `json:"lets,omitempty"`    // account that an entry lets in
	Principal   string    `json:"principal,omitempty"`
	Version     int       `json:"version,omitempty"` // of a key tab's key
	Encryption  []string  `json:"encryption,omitempty"`
	Subject     string    `json:"subject,omitempty"` // of a certificate
	Begins      time.Time `json:"begins,omitzero"`   // of a key at its issuer, and of a certificate
	Used        time.Time `json:"used,omitzero"`     // of a key at its issuer: when something signed in with it last
	Ends        time.Time `json:"ends,omitzero"`     // of a certificate, and of an entry that has an end
	Ended       string    `json:"ended,omitempty"`   // of an entry: why it lets nobody in
	Names       []string  `json:"names,omitempty"`   // that a certificate is good for
	Trouble     string    `json:"trouble,omitempty"` // of a certificate: what is wrong with it, or with what stands around it
	KeyID       string    `json:"key_id,omitempty"`  // of a cloud key
	Line        int       `json:"line,omitempty"`
}

// Evidence is how a tie is known.
type Evidence string

// Kinds of evidence, see NEEDS B1 to B4.
const (
	Configured Evidence = "configured"
	Held       Evidence = "held"
	Observed   Evidence = "observed"
	Declared   Evidence = "declared"
)

// Strength says how sure a tie is, strongest first.
type Strength string

// Strengths of evidence.
const (
	StrengthMatches    Strength = "matches"    // the held value equals the sealed one
	StrengthRunsAs     Strength = "runs as"    // the system itself says it logs on as the account
	StrengthBeside     Strength = "beside"     // names the account beside a secret that could not be compared
	StrengthDiffers    Strength = "differs"    // names the account beside a secret that is not the sealed one
	StrengthUnreadable Strength = "unreadable" // names the account, or is read by something that does, but could not be read
	StrengthMentions   Strength = "mentions"   // only mentions the account
	StrengthSignsIn    Strength = "signs in"   // was seen signed in as the account
	StrengthSaid       Strength = "said"       // a person says so
	StrengthOpens      Strength = "opens"      // holds a key that lets in as the account
	StrengthAuthorizes Strength = "authorizes" // lets the holder of a key in as the account
	StrengthReused     Strength = "same value" // holds the sealed value, but stands beside another account
	StrengthDoubtful   Strength = "doubtful"   // holds the text of the sealed value, which may stand there by chance
	StrengthAmbiguous  Strength = "ambiguous"  // holds the sealed value of several accounts and does not say whose it is
)

// FirstLine returns the first line of a text, for one-line displays.
func FirstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

// PlaceKey makes one text of a place. Hosts that have services compare their
// names without case.
func PlaceKey(kind DependentKind, place string) string {
	if kind.LogsOn() {
		place = strings.ToLower(place)
	}
	return string(kind) + "\x00" + place
}

// Key makes one text of it.
func (p Place) Key() string { return PlaceKey(p.Kind, p.Place) }
