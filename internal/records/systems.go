package records

import (
	"time"

	"mossledger.example/moss/internal/connect"
)

// Tally counts what a visit did to the picture.
type Tally struct {
	Added, Altered, Vanished int
	AccountsTouched          bool // some account is new, changed or gone
}

// CommonOption is an option of all systems that have a value in a field.
type CommonOption struct {
	ID      CommonOptionID `json:"id"`
	Field   string         `json:"field" enum:"site,environment,owner,kind"`
	Value   string         `json:"value" doc:"Of that field, whatever its letter case"`
	Name    string         `json:"name" doc:"Of the option"`
	Setting string         `json:"setting"`
	Systems int            `json:"systems" doc:"How many have that value"`
	SetBy   string         `json:"set_by"`
	Changed time.Time      `json:"changed"`
}

// Overview is what the first page shows.
type Overview struct {
	Systems      int            `json:"systems"`
	SystemStates map[string]int `json:"system_states"`
	Accounts     int            `json:"accounts"`
	Custody      int            `json:"custody" doc:"Credentials in custody"`
	Dependents   int            `json:"dependents"`
	Tied         int            `json:"tied" doc:"Dependents with at least one tie to a known account"`
	Findings     map[string]int `json:"findings" doc:"Open findings by severity"`
	NeverExpire  int            `json:"never_expires" doc:"Enabled accounts whose password never expires"`
}

// Hit is something that a search found.
type Hit struct {
	Kind   string `json:"kind" enum:"account,dependent,system"`
	ID     int64  `json:"id"`
	Name   string `json:"name"`
	System string `json:"system" doc:"Where it is; of a system its address"`
	Of     string `json:"of" doc:"Kind of dependent or system, type of account"`
	Detail string `json:"detail" doc:"Place or description"`
}

// StewardLink says that the steward of a system is an account in custody.
type StewardLink struct {
	SystemID  SystemID
	Steward   string
	AccountID AccountID
	Sealed    []byte // the link itself, so that nobody else makes one
}

// System is a system with what is known of it.
type System struct {
	ID          SystemID              `json:"id"`
	Name        string                `json:"name"`
	Kind        string                `json:"kind"`
	Address     string                `json:"address"`
	Port        int                   `json:"port,omitempty" doc:"The kind's usual one when there is none"`
	Steward     string                `json:"steward" doc:"By which it is reached; \"\" for none"`
	Site        string                `json:"site"`
	Environment string                `json:"environment"`
	Owner       string                `json:"owner"`
	Options     map[string]string     `json:"options" nullable:"false"`
	TrustedCA   string                `json:"trusted_ca,omitempty" doc:"PEM of the CA that its certificate is verified against"`
	HostKeys    []string              `json:"host_keys" nullable:"false" doc:"Approved fingerprints"`
	Facts       connect.Facts         `json:"facts"`
	State       string                `json:"state" enum:"new,ok,failed,incomplete" doc:"Of the latest check or visit"`
	StateWords  string                `json:"state_words" doc:"What is wrong, in the system's own words"`
	Checked     time.Time             `json:"checked,omitzero"`
	Visited     time.Time             `json:"visited,omitzero" doc:"Last visit, whatever it read"`
	Complete    time.Time             `json:"read_completely,omitzero" doc:"Last visit that read everything"`
	Stages      []connect.StageResult `json:"stages" nullable:"false"`
	Trusted     string                `json:"trusted" doc:"Who asked for, and who approved, where its secrets may be sent"`
	Waits       ApprovalID            `json:"waits_for_approval,omitempty" doc:"Number of the approval without which nothing secret is sent there"`
	Revision    int64                 `json:"revision"`
}

// Removal says what goes with a system.
type Removal struct {
	Accounts   int    `json:"accounts"`
	Dependents int    `json:"dependents"`
	Rehearsals int    `json:"rehearsals"`
	Rotations  int    `json:"rotations"`
	Refused    string `json:"refused,omitempty" doc:"Why it cannot be removed now"`
}

// Steward is the account by which systems are reached; its sealed values never
// leave the service.
type Steward struct {
	Name           string    `json:"name"`
	Account        string    `json:"account"`
	HasPassword    bool      `json:"has_password"`
	HasKey         bool      `json:"has_key"`
	Systems        int       `json:"systems"`
	Changed        time.Time `json:"changed"`
	SealedPassword []byte    `json:"-"`
	SealedKey      []byte    `json:"-"`
}

// Unread is a system that was not read completely.
type Unread struct {
	Name, State, Words string
	Visited            time.Time // last, however it ended
	Complete           time.Time // when it was read completely; zero for never
}
