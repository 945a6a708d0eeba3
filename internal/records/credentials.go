package records

import (
	"fmt"
	"time"

	"mossledger.example/moss/internal/core/credential"
)

// States of a credential.
const (
	CredentialSeen    = "seen"    // it is known, and nothing of it is kept
	CredentialCustody = "custody" // its value is kept sealed
)

// Credential is what proves an account: its password, or a key, which may prove
// several. Where it is accepted and held is in ties and dependents.
type Credential struct {
	ID          CredentialID    `json:"id"`
	Kind        credential.Kind `json:"kind" enum:"password,ssh-key,cloud-key,token,api-key,certificate,key-tab"`
	Name        string          `json:"name" doc:"Of its account; of a key the comment of an entry, or where it is held"`
	AccountID   AccountID       `json:"account_id,omitempty"`
	SystemID    SystemID        `json:"-"`
	System      string          `json:"system,omitempty" doc:"That of its account"`
	Fingerprint string          `json:"fingerprint,omitempty" doc:"SHA256:... of the public half, where there is one"`
	Type        string          `json:"type,omitempty" doc:"Of a key: ssh-ed25519"`
	Bits        int             `json:"bits,omitempty"`
	Points      int             `json:"points" doc:"Where it is accepted: its authority, or entries that let the holder of a key in"`
	Locations   int             `json:"locations" doc:"Where it is held: files, and log-ons that systems keep"`
	State       string          `json:"state" enum:"seen,custody" doc:"custody: its value is kept sealed"`
	NotBefore   time.Time       `json:"not_before,omitzero"`
	NotAfter    time.Time       `json:"not_after,omitzero"`
	FirstSeen   time.Time       `json:"first_seen"`
	Taken       time.Time       `json:"taken,omitzero" doc:"Into custody"`
	TakenBy     string          `json:"taken_by,omitempty"`
	Verified    time.Time       `json:"verified,omitzero"`
	Verdict     string          `json:"verdict" enum:"accepted,refused,unclear,rests,"`
	Words       string          `json:"words,omitempty" doc:"Of the latest verification"`
	Rotated     time.Time       `json:"rotated,omitzero"`
}

// InCustody reports whether its value is kept.
func (c Credential) InCustody() bool { return c.State == CredentialCustody }

// Spelling is how commands take it.
func (c Credential) Spelling() string {
	switch {
	case c.Fingerprint != "":
		return c.Fingerprint
	case c.ID == 0:
		return fmt.Sprintf("id:%d", c.AccountID)
	}
	return c.Name
}

// States of a sealed value. Law 2: a value is removed only with its account;
// "retired" values were proven to be refused, and are erased when their time is over.
const (
	SecretCandidate = "candidate" // prepared by a rotation, maybe at the authority
	SecretCurrent   = "current"
	SecretPrevious  = "previous" // was current before; not proven to be refused
	SecretRetired   = "retired"
)

// Secret is a sealed value.
type Secret struct {
	ID           SecretID
	CredentialID CredentialID
	Kind         credential.Kind
	AccountID    AccountID // of a password
	RotationID   RotationID
	State        string
	Sealed       []byte
	Fingerprint  string
	Public       string // of a private key: the fingerprint of its public half
	Created      time.Time
	Ended        time.Time // when it was replaced, or proven to be refused
	SystemID     SystemID  // of a password: where its account lives, which is part of what it is bound to
}

// Erased reports whether the value itself is not kept any more: its time was over. What is
// left tells it from others.
func (v Secret) Erased() bool { return len(v.Sealed) == 0 }

// UndoDays is for how many days a value that was replaced, and is proven to be refused, is
// kept sealed where no policy says otherwise.
const UndoDays = 90

// FormerValue is a value that was replaced and is proven to be refused.
type FormerValue struct {
	ID           SecretID
	CredentialID CredentialID
	Credential   string
	System       string
	Ended        time.Time
	Days         int // for how many it is kept
}

// Binding names the record that a sealed value belongs to.
func (v Secret) Binding() string {
	if v.Kind.Pair() {
		return fmt.Sprintf("secret/key=%d/fingerprint=%s", v.CredentialID, v.Fingerprint)
	}
	return fmt.Sprintf("secret/account=%d/system=%d/fingerprint=%s", v.AccountID, v.SystemID, v.Fingerprint)
}

// FormerBinding is how passwords were bound in databases of the first versions.
func (v Secret) FormerBinding() string {
	return fmt.Sprintf("secret/account=%d/fingerprint=%s", v.AccountID, v.Fingerprint)
}

// Settlement gives the two values of a finished rotation their places: the
// winner is current, the loser retired when it was proven to be refused, and
// kept as previous when it was not.
type Settlement struct {
	Winner, Loser SecretID
	LoserRefused  bool
	Public        *credential.Public // of a key: the winner's public half
	CredentialID  CredentialID       // whose they are, where that is not the rotation's own
	Tandem        *TandemIs          // where two accounts take turns
}
