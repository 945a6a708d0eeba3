package records

import (
	"time"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
)

// What a person decided about a copy that cannot be replaced, or may be none.
const (
	CopyLeave   = "leave"   // it stays as it is: the person sees to it, or it does not matter
	CopyReplace = "replace" // it is a copy, although only its text says so
)

// CopyDecision is a person's decision about one copy.
type CopyDecision struct {
	SystemID SystemID  `json:"system_id"`
	Place    string    `json:"place"`
	Decision string    `json:"decision" enum:"leave,replace"`
	Reason   string    `json:"reason"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
}

// Dependent is a dependent with where it is and since when.
type Dependent struct {
	ID       DependentID `json:"id"`
	SystemID SystemID    `json:"system_id"`
	System   string      `json:"system"`
	estate.Dependent
	FirstSeen time.Time          `json:"first_seen"`
	Seen      time.Time          `json:"seen"`
	Changed   time.Time          `json:"changed"`
	Gone      time.Time          `json:"gone,omitzero"`
	Identity  estate.Identity    `json:"identity" enum:"named,managed,virtual,built-in," doc:"What sort of identity it runs as"`
	Given     string             `json:"-"` // fingerprint of the password that was given from here last
	GivenAt   time.Time          `json:"given_at,omitzero" doc:"When its log-on was last given from here"`
	GivenTo   AccountID          `json:"-"` // account of that log-on
	Check     *rotation.AppCheck `json:"check,omitempty" doc:"The application's own check, as a person set it"`
	Limit     *credential.Limit  `json:"limit,omitempty" doc:"What it can carry of a password, as a person said"`
	Ties      []Tie              `json:"ties" nullable:"false"`
	Readers   []string           `json:"readers" nullable:"false" doc:"Of a file: the units and entries on its system that name it"`
}

// Tie links a dependent to an account.
type Tie struct {
	AccountID AccountID `json:"account_id"`
	Account   string    `json:"account"`
	System    string    `json:"system" doc:"System of the account"`
	Evidence  string    `json:"evidence"`
	Strength  string    `json:"strength"`
	Detail    string    `json:"detail"`
	FirstSeen time.Time `json:"first_seen"`
}

// Reuse is one password that several accounts have.
type Reuse struct {
	Fingerprint string
	Accounts    []string  // in order
	AccountID   AccountID // one of them
	System      string    // of that account
	Places      []string  // where copies of it stand
}

// KeyUse is a key by its fingerprint: which accounts it opens, and where its
// private half is held.
type KeyUse struct {
	Fingerprint string
	Name        string      // comment of an entry, or its account
	System      string      // of one entry
	DependentID DependentID // that entry
	Doors       []string
	Holders     []string
}

// Seen is an account that somebody signs in with, from where, as far as that is
// known.
type SeenUse struct {
	AccountID   AccountID `json:"account_id"`
	Account     string    `json:"account"`
	SystemID    SystemID  `json:"system_id"`
	System      string    `json:"system" doc:"Where it is signed in to"`
	Client      string    `json:"client" doc:"Address that it comes from; empty for the system itself"`
	Port        int       `json:"port,omitempty"`
	Application string    `json:"application,omitempty" doc:"As the client names itself"`
	How         string    `json:"how" doc:"session, or how the record says that it signed in"`
	HostID      SystemID  `json:"host_id,omitempty"`
	Host        string    `json:"host,omitempty" doc:"System with that address"`
	Unit        string    `json:"unit,omitempty" doc:"That owns the socket"`
	Program     string    `json:"program,omitempty"`
	UID         string    `json:"uid,omitempty"`
	Failed      bool      `json:"failed,omitempty" doc:"It was refused"`
	First       time.Time `json:"first"`
	Last        time.Time `json:"last"`
	Count       int       `json:"count"`
}

// ObservedTie is a tie that comes from use.
type ObservedTie struct {
	AccountID   AccountID
	DependentID DependentID
	Detail      string
	Seen        time.Time
}

// SocketOf is a socket with the host that it is on.
type SocketOf struct {
	SystemID SystemID `json:"system_id"`
	System   string   `json:"system"`
	estate.Socket
	PeerSystemID SystemID  `json:"peer_system_id,omitempty"`
	PeerSystem   string    `json:"peer_system,omitempty" doc:"System at the other end"`
	Seen         time.Time `json:"seen"`
}

// Declaration is a use of an account that a person says exists.
type Declaration struct {
	ID          DeclarationID `json:"id"`
	AccountID   AccountID     `json:"account_id"`
	Account     string        `json:"account"`
	DependentID DependentID   `json:"dependent_id"`
	Place       string        `json:"place"`
	System      string        `json:"system"`
	Reason      string        `json:"reason"`
	Until       time.Time     `json:"until,omitzero" doc:"When it ends; absent for never"`
	SaidBy      string        `json:"said_by"`
	Said        time.Time     `json:"said"`
}
