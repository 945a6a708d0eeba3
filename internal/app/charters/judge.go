package charters

import (
	"context"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/records"
)

// scope begins the keys of findings by charters.
const scope = "charter/"

// mostJudged is how many lines become findings; more than people read.
const mostJudged = 2000

// judge makes findings of what charters come to: what is forbidden at once, what is missing
// as what will fail; what is beyond, once for each account.
func (charters *Charters) judge(ctx context.Context) error {
	lines, err := charters.store.OpenLines(ctx, []charter.State{charter.StateForbidden, charter.StateMissing, charter.StateDiffers}, mostJudged+1)
	if err != nil {
		return err
	}
	var list []records.Finding
	seen := map[string]int{}
	for i, l := range lines {
		if i == mostJudged {
			list = append(list, records.Finding{Key: scope + "limit", Kind: "limit-reached", Severity: "medium", Subject: "charters", What: fmt.Sprintf("more than %d things are otherwise than charters say: the first %d are told", mostJudged, mostJudged), Next: "'moss charter list' counts them all"})
			break
		}
		if f, told := finding(l); told {
			if seen[f.Key]++; seen[f.Key] > 1 {
				f.Key = fmt.Sprintf("%s/%d", f.Key, seen[f.Key])
			}
			list = append(list, f)
		}
	}
	excess, err := charters.store.OpenLines(ctx, []charter.State{charter.StateExcess}, 5*mostJudged)
	if err != nil {
		return err
	}
	return charters.store.SetFindings(ctx, scope, append(list, beyond(excess)...))
}

func finding(l records.CharterLine) (records.Finding, bool) {
	subject := l.Account
	if subject == "" {
		subject = l.Item
	}
	f := records.Finding{Key: fmt.Sprintf("%s%d/%d/%d/%s/%s", scope, l.CharterID, l.SystemID, l.AccountID, l.Section, l.Item), Subject: subject, System: l.System, AccountID: l.AccountID, Next: "'moss charter check " + l.Charter + "' says what to change, and how to take it back"}
	switch l.State {
	case charter.StateForbidden:
		f.Kind, f.Severity = "charter-forbidden", "high"
		f.What = "the charter " + l.Charter + " says that it must never have this: " + strings.TrimPrefix(l.Item, charter.NeverPrefix)
		if l.Through != "" {
			f.What += ", through " + l.Through
		}
	case charter.StateMissing:
		f.Kind, f.Severity = "charter-missing", "high"
		f.What = "by the charter " + l.Charter + " it needs this, and has it not: " + l.Item
		if l.Was == charter.StateMet {
			f.What = "it lost what it needs by the charter " + l.Charter + ": " + l.Item
		}
		if l.AtNext != "" {
			f.What += "; what depends on it fails " + l.AtNext
		}
	case charter.StateDiffers:
		f.Kind, f.Severity = "charter-differs", "medium"
		f.What = "the charter " + l.Charter + " says: " + l.Item + "; " + l.Why
	default:
		return f, false
	}
	if l.Why != "" && l.State != charter.StateDiffers {
		f.What += " (" + l.Why + ")"
	}
	return f, true
}

// beyond is one finding for each account that has more than its charter says.
func beyond(lines []records.CharterLine) (out []records.Finding) {
	type of struct {
		charter records.CharterID
		account records.AccountID
	}
	at := map[of]int{}
	count := map[of]int{}
	for _, l := range lines {
		k := of{l.CharterID, l.AccountID}
		count[k]++
		if _, known := at[k]; !known {
			at[k] = len(out)
			out = append(out, records.Finding{Key: fmt.Sprintf("%s%d/%d/beyond", scope, l.CharterID, l.AccountID), Kind: "charter-excess", Severity: "low", Subject: l.Account, System: l.System, AccountID: l.AccountID, What: "it has what the charter " + l.Charter + " does not speak of: " + l.Item, Next: "take it away, or say in the charter that it may have it"})
		}
	}
	for k, i := range at {
		if more := count[k] - 1; more > 0 {
			out[i].What += fmt.Sprintf(", and %d more", more)
		}
	}
	return out
}
