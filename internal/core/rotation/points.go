package rotation

import (
	"slices"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
)

// ofKey: the step is about a key pair.
func (s Step) ofKey() bool {
	return s.Door != nil || s.Kind == StepSeal && s.Dependent == estate.DependentKey || s.Kind == StepReplace && len(s.Places) > 0 && slices.Contains([]layout.Layout{layout.PEM, layout.KeyFile, layout.Chain}, s.Places[0].Layout)
}

// keyTitle is a step about a key pair, or its undoing, in a few words.
func (s Step) keyTitle(undo bool) string {
	key, other, from := "new", "old", ""
	if undo {
		key, other = other, key
	}
	if s.Door != nil && s.Door.Via != "" {
		from = " from " + s.Door.Via
	}
	if s.Door != nil && s.Door.Issuer && (s.Kind == StepChange || s.Kind == StepRetire) {
		return s.issuedTitle(undo)
	}
	if s.Door != nil && s.Door.Certifies && s.Kind == StepChange {
		if undo {
			return "have " + s.System + " take the new certificate of " + s.Door.Account + " back"
		}
		return "have " + s.System + " issue a certificate of " + s.Door.Account + " about the new key"
	}
	switch s.Kind {
	case StepShow:
		return "prove that port " + s.Subject + " on " + s.System + " shows the " + key + " certificate"
	case StepSeal:
		if undo {
			return "give up the new key of " + s.Subject
		}
		return "seal a new key for " + s.Subject
	case StepChange:
		if undo {
			return "remove the new key from " + s.Subject + " on " + s.System
		}
		return "add the new key beside the old one in " + s.Subject + " on " + s.System
	case StepRetire:
		if undo {
			return "add the old key beside the new one in " + s.Subject + " on " + s.System
		}
		return "remove the old key from " + s.Subject + " on " + s.System
	case StepSignIn:
		return "sign in as " + s.Subject + " on " + s.System + from + " with the " + key + " key"
	case StepReplace:
		what := "key"
		if s.Places[0].Layout == layout.Chain {
			what = "certificate"
		} else if slices.ContainsFunc(s.Places, func(l held.Locator) bool { return l.Layout == layout.Chain }) {
			what = "key and certificate"
		}
		if undo {
			return "put the old " + what + " back in " + s.Subject + " on " + s.System
		}
		return "replace the " + what + " in " + s.Subject + " on " + s.System
	default:
		return "prove that " + s.Subject + " on " + s.System + from + " refuses the " + other + " key"
	}
}

// issuedTitle is a step at an issuer, which keeps the keys of an identity itself, or its
// undoing, in a few words.
func (s Step) issuedTitle(undo bool) string {
	of := s.Door.Account + " on " + s.System
	switch {
	case s.Kind == StepChange && undo:
		return "delete the new key of " + of
	case s.Kind == StepChange:
		return "have a new key accepted for " + of + " beside the old one"
	case undo:
		return "enable the old key of " + of + " again"
	}
	return "disable the old key of " + of
}

// begunDoors are those at which an authority was about to be changed.
func (s State) begunDoors() []bool {
	begun := make([]bool, s.index.count) // by door
	for _, j := range s.index.changes {
		// One of several doors that was certainly left alone needs no proof, and may
		// have been shut by somebody else.
		if t := &s.Steps[j]; t.Attempted && (s.Plan.Steps[j].Door == nil || t.Status != Failed || !t.NoEffect) {
			begun[s.index.doors[j]] = true
		}
	}
	return begun
}
