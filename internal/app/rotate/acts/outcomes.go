package acts

import (
	"errors"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
)

// Failed is what an act came to that ended with an error: unclear where it may have begun.
func Failed(err error) rotation.Outcome {
	if connect.IsUnclear(err) && !errors.Is(err, rotation.ErrAway) {
		return rotation.Outcome{Result: rotation.ResultUnclear, Words: err.Error()}
	}
	return Certainly(err)
}

// Certainly is for failures before anything was sent, or that certainly changed
// nothing. A system that could not be reached is no failure (law 12).
func Certainly(err error) rotation.Outcome {
	if Away(err) {
		return rotation.Outcome{Result: rotation.ResultAway, Words: err.Error()}
	}
	return rotation.Outcome{Result: rotation.ResultFailed, Words: err.Error()}
}

// NotFoundOut is a probe that found nothing out.
func NotFoundOut(err error) rotation.Finding {
	result := rotation.ProbeUnknown
	if Away(err) {
		result = rotation.ProbeAway
	}
	return rotation.Finding{Result: result, Words: err.Error()}
}

// Away: the system could not be reached.
func Away(err error) bool {
	var failure *connect.Failure
	if errors.As(err, &failure) {
		switch failure.Code {
		case connect.CodeUnknownName, connect.CodeUnreachable, connect.CodeTimeout:
			return true
		}
		return false
	}
	return errors.Is(err, rotation.ErrAway)
}

func done(words string) rotation.Outcome {
	return rotation.Outcome{Result: rotation.ResultDone, Words: words}
}
