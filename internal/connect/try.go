package connect

import "context"

// Tried is what one step of a job came to.
type Tried struct {
	OK    bool   `json:"ok"`
	Words string `json:"words,omitempty"` // the system's own, of a step that failed
}

// Trier does one step of a job as the account that signs in, which is the target's steward
// here: a scratch account whose rights are looked at. A step is in the system's own language
// (JobHelp). What the system refuses is an answer; an error is that nothing was found out.
// No session is kept: what an account may do is often looked up only when it signs in.
type Trier interface {
	Try(ctx context.Context, target Target, step string) (Tried, error)
}

// JobHelp says what a step of a job is, by class and kind of system.
const JobHelp = "on unix hosts a line of a shell; in PostgreSQL and MariaDB a statement, taken back where the server can; in Redis a command; in directories 'search BASE FILTER' or 'modify DN add|delete|replace ATTRIBUTE VALUE', with double quotes around what has blanks"
