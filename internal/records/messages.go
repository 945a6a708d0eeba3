package records

import (
	"time"

	"mossledger.example/moss/internal/core/notice"
)

// RecipientSettings are what the store keeps of a recipient as one value.
type RecipientSettings struct {
	User      string          `json:"user,omitempty" maxLength:"200" doc:"Of mail: who signs in to the mail server"`
	From      string          `json:"from,omitempty" maxLength:"254" doc:"Of mail: the address that it is from"`
	To        []string        `json:"to,omitempty" maxItems:"50" doc:"Of mail: the addresses of people"`
	TrustedCA string          `json:"trusted_ca,omitempty" maxLength:"65536" doc:"Certificates in PEM that prove the other side; those that the machine trusts when absent"`
	Events    []string        `json:"events,omitempty" maxItems:"100" doc:"Names of events, with * for any letters at the end; all when absent"`
	Least     notice.Severity `json:"least" enum:"critical,error,warning,notice,informational" doc:"Nothing that is less grave"`
	Labels    []string        `json:"labels,omitempty" maxItems:"100" doc:"Only what is about an account with one of them"`
}

// Recipient is told what happens.
type Recipient struct {
	ID      RecipientID `json:"id"`
	Name    string      `json:"name"`
	Kind    string      `json:"kind" enum:"mail,syslog,webhook"`
	Address string      `json:"address" doc:"An https address of a webhook, or host:port"`
	RecipientSettings
	Secret      bool      `json:"secret" doc:"Whether there is one: what messages to a webhook are signed with, or a password"`
	Paused      bool      `json:"paused"`
	Since       time.Time `json:"since" doc:"What happened before is not told"`
	Description string    `json:"description,omitempty"`
	Waiting     int       `json:"waiting" doc:"Messages that wait to be sent"`
	GivenUp     int       `json:"given_up" doc:"Messages that were given up"`
	Sent        time.Time `json:"sent,omitzero" doc:"When it took the last one"`
	Trouble     string    `json:"trouble,omitempty" doc:"Why the one that waits first could not be sent"`
	Revision    int64     `json:"revision"`
	Changed     time.Time `json:"changed"`
	ChangedBy   string    `json:"changed_by"`
	Sealed      []byte    `json:"-"`
}

// States of messages.
const (
	MessageWaiting = "waiting"
	MessageSent    = "sent"
	MessageGivenUp = "given-up"
)

// Message is what is told at once.
type Message struct {
	ID          MessageID       `json:"id"`
	RecipientID RecipientID     `json:"recipient_id"`
	Recipient   string          `json:"recipient"`
	Mark        string          `json:"mark" doc:"By which its reader knows it, however often it is sent"`
	State       string          `json:"state" enum:"waiting,sent,given-up"`
	Severity    notice.Severity `json:"severity" enum:"critical,error,warning,notice,informational" doc:"Of the gravest event"`
	Subject     string          `json:"subject"`
	Number      int             `json:"number" doc:"Of events"`
	Events      []notice.Event  `json:"events" nullable:"false"`
	Attempts    int             `json:"attempts"`
	Made        time.Time       `json:"made"`
	Due         time.Time       `json:"due" doc:"When it is tried next"`
	Tried       time.Time       `json:"tried,omitzero" doc:"When it was tried last"`
	Words       string          `json:"words,omitempty" doc:"What was said to it"`
}

// UntoldFinding is a finding that was raised or cleared, and not told.
type UntoldFinding struct {
	Finding
	Over bool // cleared
}
