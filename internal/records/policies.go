package records

import (
	"slices"
	"time"

	"mossledger.example/moss/internal/core/rotation"
)

// Window is a time that recurs, in which something may be restarted or changed.
type Window struct {
	ID          WindowID          `json:"id"`
	Name        string            `json:"name"`
	Rule        string            `json:"rule" doc:"When it opens: a recurrence rule of RFC 5545, such as FREQ=WEEKLY;BYDAY=SA,SU"`
	Begins      string            `json:"begins" doc:"When it opened first, by the clock there: 2026-11-28T22:00"`
	Zone        string            `json:"zone" doc:"Time zone by whose clock it opens, such as Europe/Oslo"`
	Minutes     int               `json:"minutes" doc:"For how long it is open"`
	Description string            `json:"description,omitempty"`
	Labels      []string          `json:"labels" nullable:"false" doc:"It counts for accounts with one of them"`
	Systems     []string          `json:"systems" nullable:"false" doc:"And for what is restarted there, whatever its account"`
	Dependents  []WindowDependent `json:"dependents" nullable:"false" doc:"And for these"`
	Policies    []string          `json:"policies" nullable:"false" doc:"Names of policies that rotate in it"`
	Revision    int64             `json:"revision"`
	Changed     time.Time         `json:"changed"`
	ChangedBy   string            `json:"changed_by"`
}

// WindowDependent is a dependent with a window of its own.
type WindowDependent struct {
	ID     DependentID `json:"id"`
	System string      `json:"system,omitempty"`
	Place  string      `json:"place,omitempty"`
}

// PolicySettings are what the store keeps of a policy as one value.
type PolicySettings struct {
	EveryDays   int                    `json:"every_days,omitempty" minimum:"0" maximum:"3660" doc:"Each credential is rotated at least once in so many days, in a turn of its own"`
	Rule        string                 `json:"rule,omitempty" maxLength:"300" doc:"Or after each time of a recurrence rule of RFC 5545"`
	Begins      string                 `json:"begins,omitempty" maxLength:"16" doc:"When that recurred first: 2026-11-28T22:00"`
	Zone        string                 `json:"zone,omitempty" maxLength:"60" doc:"Time zone by whose clock it recurs"`
	Spread      int                    `json:"spread,omitempty" minimum:"0" maximum:"366" doc:"Over so many openings of the window, or days, after each time; 1 when it is 0"`
	RenewDays   int                    `json:"renew_days,omitempty" minimum:"0" maximum:"3660" doc:"Not for accounts, but for certificates in custody: each is renewed with its key so many days before it ends"`
	AtWindowEnd rotation.WindowEnd     `json:"at_window_end,omitempty" enum:"pause,undo," doc:"What becomes of one that is not done when its window closes: it goes on in the next, or is undone; pause when empty"`
	OnFailure   rotation.OnFailure     `json:"on_failure,omitempty" enum:"stop,continue,undo," doc:"What to do when a step fails; undo when empty"`
	Restart     rotation.RestartPolicy `json:"restart,omitempty" enum:"now,leave," doc:"When dependents are restarted: now, or not at all"`
	Way         string                 `json:"way,omitempty" enum:"any,replace,overlap,alternate," doc:"overlap: only while both values are accepted for a time; replace: never so; alternate: another account takes its place; any when empty"`
	FirstAlone  bool                   `json:"first_alone,omitempty" doc:"One dependent is changed and proven before all others"`
	QuietHours  int                    `json:"quiet_hours,omitempty" minimum:"0" maximum:"8760" doc:"For so long after somebody else changed the account or a dependent, it is left alone"`
	AtOnce      int                    `json:"at_once,omitempty" minimum:"0" maximum:"100" doc:"So many of its rotations run at the same time; 4 when it is 0"`
	Length      int                    `json:"length,omitempty" minimum:"0" maximum:"256" doc:"Characters of new passwords; the usual number when it is 0"`
	Without     string                 `json:"without,omitempty" maxLength:"100" doc:"Characters that new passwords must not have"`
	UndoDays    int                    `json:"undo_days,omitempty" minimum:"0" maximum:"3660" doc:"Days for which a value that was replaced is kept sealed, so that the rotation can be undone; 90 when it is 0"`
	LeadDays    int                    `json:"lead_days,omitempty" minimum:"0" maximum:"3660" doc:"So many days before something ends of an account with its label, in custody or not, that is told; 30 when it is 0"`
	MaxAgeDays  int                    `json:"max_age_days,omitempty" minimum:"0" maximum:"36600" doc:"A password that is older is told; any age when it is 0"`
	IdleDays    int                    `json:"idle_days,omitempty" minimum:"0" maximum:"36600" doc:"An account that was not used for so many days is told; any time when it is 0"`
	Patience    int                    `json:"patience,omitempty" minimum:"0" maximum:"2592000" doc:"Seconds for which a system that is away is waited for before on_failure decides; half an hour when it is 0"`
}

// Policy says how often, when and how the credentials of accounts with a label are rotated.
type Policy struct {
	ID         PolicyID `json:"id"`
	Name       string   `json:"name"`
	Label      string   `json:"label" doc:"Of the accounts that it is for; empty for all in custody"`
	Precedence int      `json:"precedence" doc:"Where several are for one account, the one with the highest decides"`
	PolicySettings
	Window      string    `json:"window,omitempty" doc:"In which they are rotated; absent for at any time"`
	Paused      bool      `json:"paused" doc:"It decides, and nothing is rotated"`
	Description string    `json:"description,omitempty"`
	Credentials int       `json:"credentials" doc:"For how many it decides"`
	Due         int       `json:"due" doc:"How many of those are due, and not rotated yet"`
	Revision    int64     `json:"revision"`
	Changed     time.Time `json:"changed"`
	ChangedBy   string    `json:"changed_by"`
}

// ForCertificates: it decides for certificates, and for no account.
func (p Policy) ForCertificates() bool { return p.RenewDays > 0 }

// Turn is when a credential is rotated next, and why.
type Turn struct {
	CredentialID CredentialID `json:"credential_id"`
	Credential   string       `json:"credential"`
	AccountID    AccountID    `json:"account_id"`
	System       string       `json:"system"`
	PolicyID     PolicyID     `json:"-"`
	Policy       string       `json:"policy"`
	Window       string       `json:"window,omitempty"`
	State        string       `json:"state" enum:"planned,due,failed,running,paused" doc:"failed: it was due, and was not rotated when it was tried"`
	Since        time.Time    `json:"since" doc:"When the policy began to decide for it"`
	Next         time.Time    `json:"next,omitzero" doc:"When it is rotated"`
	NextEnds     time.Time    `json:"next_ends,omitzero" doc:"Until when that can begin"`
	Due          time.Time    `json:"due,omitzero" doc:"Its turn that has passed, when it was not rotated then"`
	Tried        time.Time    `json:"tried,omitzero" doc:"When it was tried last"`
	Failed       int          `json:"failed" doc:"How often it was tried since without success"`
	Words        string       `json:"words,omitempty" doc:"What came of that"`
	RotationID   RotationID   `json:"rotation_id,omitempty" doc:"The latest rotation that was started so"`
}

// Candidate is a credential in custody with what decides about its turn.
type Candidate struct {
	Turn
	HasTurn bool // it is in the table of turns
	Labels  []string
	Last    time.Time // its value was changed last, as far as is known
	Running bool      // a rotation of it is not finished
	// Undone is when the rotation of its turn was undone; zero where it was not.
	Undone time.Time
	// Ends is of a certificate: when what clients see of it, or what stands in its files, ends
	// first. Zero of everything else.
	Ends time.Time
}

// Order says of dependents in which order they are restarted, or how many at the same time.
type Order struct {
	ID          OrderID       `json:"id"`
	Name        string        `json:"name"`
	Kind        string        `json:"kind" enum:"group,sequence" doc:"group: only some of them are restarted at the same time; sequence: what comes first is proven before what comes after it is restarted"`
	AtOnce      int           `json:"at_once" doc:"Of a group: so many at the same time"`
	Members     []OrderMember `json:"members" nullable:"false"`
	Description string        `json:"description,omitempty"`
	Revision    int64         `json:"revision"`
	Changed     time.Time     `json:"changed"`
	ChangedBy   string        `json:"changed_by"`
}

// OrderMember chooses dependents; all that is given must fit.
type OrderMember struct {
	System string `json:"system,omitempty" maxLength:"300" doc:"Name of its system; * stands for any letters"`
	Place  string `json:"place,omitempty" maxLength:"500" doc:"Its place; * stands for any letters"`
	Label  string `json:"label,omitempty" maxLength:"63" doc:"A label of the account whose credential is rotated"`
}

// Interruption is how long a dependent stood still in a rotation.
type Interruption struct {
	RotationID   RotationID `json:"rotation_id"`
	System       string     `json:"system"`
	SystemID     SystemID   `json:"-"`
	Place        string     `json:"place"`
	At           time.Time  `json:"at" doc:"When it was restarted"`
	Milliseconds int64      `json:"milliseconds" doc:"From its restart until it was proven"`
	Expected     int64      `json:"expected,omitempty" doc:"Milliseconds that were expected, by earlier rotations; absent where it had not been measured"`
}

// Freeze is that nothing new begins.
type Freeze struct {
	Frozen bool      `json:"frozen"`
	By     string    `json:"by,omitempty"`
	At     time.Time `json:"at,omitzero"`
	Reason string    `json:"reason,omitempty"`
}

// PolicyFor is the policy that counts for an account with these labels, in custody or not: of
// those that are for it the first. They come by precedence, the highest first.
func PolicyFor(list []Policy, labels []string, custody bool) Policy {
	for _, p := range list {
		if p.ForCertificates() {
			continue
		}
		if p.Label == "" && custody || p.Label != "" && slices.Contains(labels, p.Label) {
			return p
		}
	}
	return Policy{}
}
