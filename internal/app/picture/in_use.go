package picture

import (
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
)

// Uses says in words how a dependent uses an account, so that it would stop without it; ""
// when it does not, or only may.
func Uses(d records.Dependent, account records.AccountID) string {
	switch estate.Strength(StrengthFor(d, account)) {
	case estate.StrengthRunsAs:
		return "runs as"
	case estate.StrengthMatches:
		return "holds the value of"
	case estate.StrengthBeside, estate.StrengthUnreadable:
		return "names beside a value"
	case estate.StrengthSignsIn:
		return "signs in as"
	case estate.StrengthSaid:
		return "is said to use"
	}
	return ""
}
