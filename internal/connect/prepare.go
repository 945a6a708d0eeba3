package connect

import "strings"

// Known is what a preparation is filled in with.
type Known struct {
	PublicKey string   // of the steward, as an entry of authorized keys; "" where it has none
	SID       string   // of the steward, where it is an account of the directory
	Flavor    string   // of the system, as the last check told it; "" for not known
	BaseDN    string   // of a directory
	Files     []string // of the system that hold copies of what is in custody, or may be
	Units     []string // that are restarted with them
	Reload    []string // units that may instead be told to read their files again
}

// What a preparation is for.
const (
	ForSignIn = "sign-in"
	ForRead   = "read"   // accounts and what depends on them
	ForFind   = "find"   // copies that nothing names
	ForRights = "rights" // who may do what
	ForRotate = "rotate"
	ForEnd    = "end"    // set ends, disable, delete
	ForAmend  = "amend"  // give and take rights
	ForManage = "manage" // create managed accounts, and permit hosts for them
)

// Purposes lists what preparations are for, in the order in which they are told.
func Purposes() []string {
	return []string{ForSignIn, ForRead, ForFind, ForRights, ForRotate, ForEnd, ForAmend, ForManage}
}

// Preparation is one thing that the owner of a system does so that Moss Ledger can work
// with it: text to be copied, with no secret in it.
type Preparation struct {
	For      string `json:"for" enum:"sign-in,read,find,rights,rotate,end,amend,manage"`
	What     string `json:"what" doc:"What it gives, in words"`
	Where    string `json:"where" doc:"Who does it, and where"`
	Language string `json:"language" doc:"Of the text: sh, sudoers, sql, acl, sddl, ldif, powershell"`
	Text     string `json:"text"`
}

// PlainName is a name that may stand in a text to be copied as it is; where it may not,
// words say what belongs there.
func PlainName(name, otherwise string) string {
	if name == "" {
		return otherwise
	}
	for _, c := range name {
		if !strings.ContainsRune("_.-@$\\", c) && (c < '0' || c > '9') && (c < 'A' || c > 'Z') && (c < 'a' || c > 'z') {
			return "PUT-THE-STEWARDS-NAME-HERE"
		}
	}
	return name
}

// Preparer says what must be done on a system before it can be read and changed, with the
// least rights that are enough. It reaches nothing: what is known already fills it in.
type Preparer interface {
	Prepare(target Target, known Known) []Preparation
}
