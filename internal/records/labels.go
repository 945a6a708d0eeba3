package records

import "time"

// Rule puts a label on accounts that a condition holds for, or keeps it from them.
type Rule struct {
	ID          RuleID    `json:"id"`
	Name        string    `json:"name"`
	Label       string    `json:"label"`
	Excludes    bool      `json:"excludes" doc:"It keeps the label from accounts, whoever else gives it"`
	Condition   string    `json:"condition" doc:"An expression of the Common Expression Language over the fields of GET /rules/fields"`
	Description string    `json:"description,omitempty"`
	TakeIn      string    `json:"take_in,omitempty" doc:"Window in which accounts that it matches are taken into custody by a reset, where nothing depends on their password; absent where it only gives its label"`
	TakeUnread  bool      `json:"take_unread,omitempty" doc:"It does so also while systems are not read completely, where something unknown may use them"`
	Revision    int64     `json:"revision"`
	Matches     int       `json:"matches" doc:"How many accounts it matched when the rules were last applied"`
	Changed     time.Time `json:"changed"`
	ChangedBy   string    `json:"changed_by"`
}

// Label is a label with how many accounts have it.
type Label struct {
	Label    string `json:"label"`
	Accounts int    `json:"accounts" doc:"That have it"`
	ByHand   int    `json:"by_hand" doc:"That people gave it to"`
	Rules    int    `json:"rules" doc:"That give it or keep it away"`
}

// AccountLabel is a label on an account, and why it is or is not there.
type AccountLabel struct {
	Label    string    `json:"label"`
	On       bool      `json:"on" doc:"False when a rule keeps it away"`
	ByHand   bool      `json:"by_hand"`
	SetBy    string    `json:"set_by,omitempty"`
	SetAt    time.Time `json:"set_at,omitzero"`
	Reason   string    `json:"reason,omitempty"`
	Rules    []string  `json:"rules" nullable:"false" doc:"Names of rules that give it"`
	Excluded []string  `json:"excluded" nullable:"false" doc:"Names of rules that keep it away: they always win"`
}

// HandLabel is a label that a person gave.
type HandLabel struct {
	AccountID AccountID
	Label     string
	Reason    string
	SetBy     string
}

// HandLabels are all labels that an account was given by hand.
type HandLabels struct {
	AccountID AccountID `json:"account_id"`
	Name      string    `json:"name" doc:"SYSTEM/ACCOUNT"`
	Labels    []string  `json:"labels" nullable:"false"`
}

// Labelling is an account with what rules look at.
type Labelling struct {
	Account
	Site, Environment, SystemOwner string
	Dependents                     []LabellingDependent
	ByHand                         []string
	Matched                        []RuleID // when the rules were last applied
}

// LabellingDependent is a dependent of it.
type LabellingDependent struct {
	Kind, Place, Name, System, RunsAs, State, StartMode, Executable, Evidence, Strength string
}

// Relabelled is what applying rules found of one account: all that match it, and the
// labels that are on it.
type Relabelled struct {
	AccountID AccountID
	Matched   []RuleID
	Labels    []string
}

// Taking is an account that a rule would have in custody, and what came of trying that last.
type Taking struct {
	AccountID AccountID
	Account   string
	System    string
	Rule      string
	TakeIn    string    // the window
	Unread    bool      // also while systems are not read completely
	Tried     time.Time // zero for never
	Words     string
}
