package rotation

import (
	"fmt"
	"strings"
)

// Proof counts what is known of the dependents of a rotation, strongest first. A unit
// that runs for a moment after its restart may not have used its value yet: only an
// answer to a question of its own shows that it works.
type Proof struct {
	Answers int // it answered its own check after it was restarted
	Shown   int // a port of it shows the new certificate to clients
	Signed  int // it signed in again after it was restarted, as the authority's sessions show
	Runs    int // it ran for a moment after it was restarted
	None    int // it was left alone, or could not be proven
}

// MemoSignedIn is the memo of a proof that saw the dependent signed in again.
const MemoSignedIn = "signed-in"

// MemoFormerRefused is the memo of the proof that an account rests, where the former value
// of the one that took its place was seen refused as well.
const MemoFormerRefused = "former-refused"

// Proof is what was proven of the dependents so far: with the new value, or when it was
// undone, with the old one.
func (s State) Proof() Proof {
	var p Proof
	shown := map[int]bool{} // proofs that a port was asked after
	for i, step := range s.Plan.Steps {
		if status := s.Steps[i].Status; step.Kind == StepShow && (status == Done || status == Undone) {
			for _, j := range step.Needs {
				shown[j] = true
			}
		}
	}
	for i, step := range s.Plan.Steps {
		if step.Kind != StepProve && step.Kind != StepRevive {
			continue
		}
		switch status := s.Steps[i].Status; {
		case status != Done && status != Undone:
			p.None++
		case step.Check != nil:
			p.Answers++
		case shown[i]:
			p.Shown++
		case s.Steps[i].SignedIn:
			p.Signed++
		default:
			p.Runs++
		}
	}
	return p
}

// String says it in words, the weakest first; "" when there are no dependents to prove.
func (p Proof) String() string {
	var parts []string
	count := func(n int, one, many string) {
		switch {
		case n == 1:
			parts = append(parts, "1 "+one)
		case n > 1:
			parts = append(parts, fmt.Sprintf("%d %s", n, many))
		}
	}
	count(p.None, "is not proven", "are not proven")
	count(p.Runs, "runs after its restart, and nothing asked whether it works", "run after their restart, and nothing asked whether they work")
	count(p.Signed, "has signed in again since its restart", "have signed in again since their restart")
	count(p.Shown, "shows the certificate in force to clients", "show the certificate in force to clients")
	count(p.Answers, "answers its own check", "answer their own checks")
	return strings.Join(parts, "; ")
}
