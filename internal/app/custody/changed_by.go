package custody

import (
	"context"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/records"
)

// mostOfLog bounds how long a system's log is read for one answer.
const mostOfLog = 30 * time.Second

// changedBy says when the password was set that is in the place of the sealed one, and by
// whom, as far as the system and its log tell. It is asked when the sealed one is refused
// for the first time: later the log may not go back so far any more.
func (custody *Custody) changedBy(ctx context.Context, c records.Credential, verdict connect.Verdict) string {
	if c.Kind != credential.Password || verdict.Code != connect.VerdictWrong {
		return ""
	}
	if c.Verdict == "refused" {
		if told, found := strings.CutPrefix(c.Words, verdict.Words); found {
			return told
		}
	}
	out := ""
	if !verdict.SetAt.IsZero() {
		out = "; the present password was set at " + verdict.SetAt.UTC().Format(time.DateTime)
	}
	if c.Verdict != "accepted" || c.Verified.IsZero() {
		return out // not known since when
	}
	a, err := custody.store.Account(ctx, c.AccountID)
	if err != nil {
		return out
	}
	connector, target, err := custody.inventory.Authority(ctx, a)
	if err != nil || !connector.Describe().Can(connect.ActRecords) {
		return out
	}
	limited, cancel := context.WithTimeout(ctx, mostOfLog)
	defer cancel()
	log, err := connector.Records(limited, target, c.Verified)
	if err != nil {
		return out + "; by whom is not known: " + custody.base.Redact(ctx, err.Error())
	}
	if words := log.Of(c.Verified, custody.base.Now(), a.Name, a.DN).Words(); words != "" {
		out += "; by the system's own log since it was last accepted: " + custody.base.Redact(ctx, words)
	}
	return out
}
