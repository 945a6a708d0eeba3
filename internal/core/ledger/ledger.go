// Package ledger is the append-only record of every act, in a form in which
// any alteration shows.
//
// Entries are leaves of a Merkle tree (golang.org/x/mod/sumdb/tlog, the tree
// of RFC 6962, section 2.1). After each append the tree's head is signed as a
// checkpoint, an open note format that other programs can verify with the
// public key alone. Verification recomputes everything from the entries: an
// entry whose text no longer gives its recorded leaf hash is named; a leaf
// hash that was altered to match no longer gives the signed head.
//
// Whoever appends first holds what is stored against the signed head (Book):
// a tree that was altered is never signed again. What was signed once can be
// kept elsewhere: every later head must be consistent with it (RFC 6962,
// section 2.1.2).
//
// Every act has two entries: phase "intent" before it happens and phase
// "outcome" after. An entry never contains a secret.
package ledger

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// Origin is the name in checkpoints and keys.
const Origin = "moss-ledger"

// Phases of an act.
const (
	Intent  = "intent"
	Outcome = "outcome"
)

// Entry is one record. Index and Time are set when it is appended.
type Entry struct {
	Index   int64     `json:"index"`
	Time    time.Time `json:"time"`
	Actor   string    `json:"actor"`             // who: user name, or "service"
	Act     string    `json:"act"`               // what: "rotation.change", "custody.take", ...
	Phase   string    `json:"phase"`             // intent or outcome
	Subject string    `json:"subject,omitempty"` // on what: account, system or object by name
	System  string    `json:"system,omitempty"`  // where: system name
	Ref     string    `json:"ref,omitempty"`     // id of the rotation, survey, ... it belongs to
	Result  string    `json:"result,omitempty"`  // outcome: done, failed, unclear, refused
	Reason  string    `json:"reason,omitempty"`  // why, in a person's words
	Detail  string    `json:"detail,omitempty"`  // the system's own words
	Changes []Change  `json:"changes,omitempty"` // what became of which field
}

// Change is a field of the subject that the act changed. Secrets are never
// among them: of those only that they changed is said.
type Change struct {
	Field string `json:"field"`
	From  string `json:"from"`
	To    string `json:"to"`
}

// Diff lists the fields that differ, in their order. fields holds name, before
// and after of each.
func Diff(fields ...[3]string) []Change {
	var out []Change
	for _, f := range fields {
		if f[1] != f[2] {
			out = append(out, Change{f[0], f[1], f[2]})
		}
	}
	return out
}

// Encode returns the leaf: the entry as one line of JSON.
func (e Entry) Encode() ([]byte, error) {
	e.Time = e.Time.UTC()
	return json.Marshal(e)
}

// Head is a tree of a given size.
type Head struct {
	Size int64
	Hash tlog.Hash
}

// SignHead makes the signed checkpoint of a head: origin, number of entries
// and hash of the tree, a line each, as a signed note (the checkpoint format of
// transparency logs, C2SP tlog-checkpoint).
func SignHead(head Head, signer note.Signer) (string, error) {
	text := fmt.Sprintf("%s\n%d\n%s\n", Origin, head.Size, head.Hash)
	signed, err := note.Sign(&note.Note{Text: text}, signer)
	return string(signed), err
}

// WellFormed reports whether a text is a signed note at all, whoever signed it: one that was
// torn while it was written is none.
func WellFormed(checkpoint string) bool {
	_, err := note.Open([]byte(checkpoint), note.VerifierList())
	var unverified *note.UnverifiedNoteError
	return err == nil || errors.As(err, &unverified)
}

// OpenHead verifies a checkpoint's signature and returns its head.
func OpenHead(checkpoint, verifierKey string) (Head, error) {
	verifier, err := note.NewVerifier(verifierKey)
	if err != nil {
		return Head{}, fmt.Errorf("public key of the ledger: %w", err)
	}
	opened, err := note.Open([]byte(checkpoint), note.VerifierList(verifier))
	if err != nil {
		return Head{}, fmt.Errorf("signature of the checkpoint: %w", err)
	}
	lines := strings.Split(opened.Text, "\n")
	if len(lines) != 4 || lines[0] != Origin || lines[3] != "" {
		return Head{}, errors.New("text of the checkpoint: not origin, size and hash")
	}
	size, err := strconv.ParseInt(lines[1], 10, 64)
	if err != nil || size < 0 {
		return Head{}, fmt.Errorf("text of the checkpoint: %q is not a size", lines[1])
	}
	hash, err := tlog.ParseHash(lines[2])
	if err != nil {
		return Head{}, fmt.Errorf("text of the checkpoint: %w", err)
	}
	return Head{Size: size, Hash: hash}, nil
}
