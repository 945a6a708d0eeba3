package records

import (
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/privilege"
)

// Charter says what an account of a role must have, may have and must never have.
type Charter struct {
	ID          CharterID `json:"id"`
	Name        string    `json:"name"`
	Label       string    `json:"label" doc:"It is for the accounts with it; empty for nobody yet"`
	Description string    `json:"description,omitempty"`
	Document    string    `json:"document" doc:"The charter itself, in YAML"`
	Version     int64     `json:"version" doc:"One more with each change: also the revision that a change names"`
	Changed     time.Time `json:"changed"`
	ChangedBy   string    `json:"changed_by"`

	Accounts  int `json:"accounts" doc:"That it is for"`
	Missing   int `json:"missing" doc:"Things that they need and have not"`
	Forbidden int `json:"forbidden" doc:"Things that they have and must never have"`
	Excess    int `json:"excess" doc:"Things that they have beyond it"`
	Differs   int `json:"differs" doc:"Accounts that are otherwise themselves"`
	Unknown   int `json:"unknown" doc:"Things of which it cannot be said"`
}

// CharterID numbers a Charter.
type CharterID int64

// CharterVersion is a charter as it was.
type CharterVersion struct {
	Version   int64     `json:"version"`
	Document  string    `json:"document"`
	Changed   time.Time `json:"changed"`
	ChangedBy string    `json:"changed_by"`
}

// CharterLine is what one thing of a charter comes to for one account on one system, as long
// as it is so.
type CharterLine struct {
	ID        CharterLineID `json:"id"`
	Charter   string        `json:"charter"`
	CharterID CharterID     `json:"charter_id"`
	System    string        `json:"system"`
	SystemID  SystemID      `json:"system_id"`
	Account   string        `json:"account,omitempty" doc:"None where it is about a group of the system"`
	AccountID AccountID     `json:"account_id,omitempty"`
	Section   string        `json:"section" enum:"must,never,account,one_on,groups,beyond" doc:"Of the charter; beyond for what it does not speak of"`
	Item      string        `json:"item" doc:"In words"`
	State     charter.State `json:"state" enum:"met,missing,excess,forbidden,differs,unknown"`
	Was       charter.State `json:"was,omitempty" doc:"What it was before; absent where it was never seen otherwise"`
	Why       string        `json:"why,omitempty"`
	AtNext    string        `json:"at_next,omitempty" doc:"When what is missing breaks something: at its next start, sign-in or use"`
	Since     time.Time     `json:"since" doc:"When it was first seen to be so"`
	Ended     time.Time     `json:"ended,omitzero" doc:"When it was seen to be otherwise"`
	CharterDetail
}

// CharterLineID numbers a CharterLine.
type CharterLineID int64

// CharterDetail is what explains a line.
type CharterDetail struct {
	Because    string                 `json:"because,omitempty" doc:"As the charter says"`
	Through    string                 `json:"through,omitempty" doc:"The path of the first of its rights, in one line"`
	Rights     []privilege.Right      `json:"rights,omitempty" doc:"By which it has what it should not"`
	Change     *privilege.RightChange `json:"change,omitempty" doc:"What would make it as the charter says"`
	Proposal   *connect.Proposal      `json:"proposal,omitempty" doc:"That in the system's own language"`
	NoProposal string                 `json:"no_proposal,omitempty" doc:"Why there is none"`
}

// CharterPreview is what a charter would come to.
type CharterPreview struct {
	Name     string          `json:"name,omitempty"`
	Label    string          `json:"label,omitempty"`
	Problems []charter.Fault `json:"problems" nullable:"false" doc:"What is wrong with the text; where there are any, there is nothing else"`
	Accounts int             `json:"accounts" doc:"That it would be for"`
	Lines    []CharterLine   `json:"lines" nullable:"false" doc:"What it would come to for the first of them"`
	Looked   int             `json:"looked" doc:"At so many of them"`
}

// CharterChecked says what holding a charter against its accounts came to.
type CharterChecked struct {
	Charter  string         `json:"charter"`
	Accounts int            `json:"accounts"`
	States   map[string]int `json:"states" doc:"Lines by state"`
	Changed  int            `json:"changed" doc:"Lines that are otherwise than before"`
}

// CharterMatrix has accounts in its rows and things of a charter in its columns.
type CharterMatrix struct {
	Charter string             `json:"charter"`
	Items   []CharterColumn    `json:"items" nullable:"false"`
	Rows    []CharterMatrixRow `json:"rows" nullable:"false"`
	More    int                `json:"more,omitempty" doc:"So many more accounts there are"`
}

// CharterColumn is a thing of a charter.
type CharterColumn struct {
	Section string `json:"section"`
	Item    string `json:"item"`
}

// CharterMatrixRow is an account. Cells are in the order of the columns; empty where the
// thing is not about its system.
type CharterMatrixRow struct {
	Account   string          `json:"account"`
	AccountID AccountID       `json:"account_id"`
	System    string          `json:"system"`
	Cells     []charter.State `json:"cells" nullable:"false"`
	Beyond    int             `json:"beyond" doc:"Things that it has and the charter does not speak of"`
}

// CharterDraft is a charter that was written from what accounts have.
type CharterDraft struct {
	Document string   `json:"document" doc:"In YAML: take out what is not needed"`
	Unread   []string `json:"unread" nullable:"false" doc:"Systems whose rights are not known completely"`
	NotRead  []string `json:"not_read" nullable:"false" doc:"What was sent of which it could not be told what right it takes, each with why"`
}
