package rotation

// Successor is the account whose turn begins, where two accounts of one authority take turns.
// The rotation is of the credential whose account is in use: the new value is the other
// account's, everything that uses the one is moved to the other, and the one rests
// afterwards. Both may sign in from the change until then, as where an authority accepts
// two values, and the same rules of order and undoing hold.
type Successor struct {
	AccountID    string `json:"account_id"`
	CredentialID string `json:"credential_id"`
	Account      string `json:"account"`    // name
	Credential   string `json:"credential"` // name
}

// turnTitle is a step of a turn, or its undoing, in a few words.
func (s Step) turnTitle(undo bool) string {
	was, next, with := s.Subject, s.Next, " with its new value"
	if undo {
		was, next, with = next, was, " with its value"
	}
	switch s.Kind {
	case StepSeal:
		if undo {
			return "the new value of " + s.Next + " stays sealed"
		}
		return "seal a new value for " + s.Next
	case StepChange:
		if undo {
			return "let " + s.Next + " on " + s.System + " rest again"
		}
		return "bring " + s.Next + " on " + s.System + " into step with " + s.Subject + ", and let it sign in with a new value" + s.inWindow()
	case StepRetire:
		if undo {
			return "let " + s.Subject + " on " + s.System + " sign in again"
		}
		return "let " + s.Subject + " on " + s.System + " rest"
	case StepSignIn:
		return "sign in as " + next + with
	case StepReplace:
		if undo {
			return "put the former account and its value back in " + s.Subject + " on " + s.System
		}
		return "replace account and value in " + s.Subject + " on " + s.System + ": " + s.Next
	case StepRefuse:
		return "prove that " + was + " cannot sign in to " + s.System
	default:
		return s.unknown()
	}
}
