package findings

import (
	"mossledger.example/moss/internal/store"
)

// LimitFinding says that a list of something ends before its end.
func LimitFinding(scope, subject, what, next string) store.Finding {
	return store.Finding{Key: scope + "limit", Kind: "limit-reached", Severity: "medium", Subject: subject, What: what, Next: next}
}
