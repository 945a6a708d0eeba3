package planning

import (
	"context"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/records"
)

// keptSpelling keeps how a log-on is written, unless that says nothing outside
// of its host: a bare name or a SID is written in full.
func keptSpelling(written, full string) string {
	ref, err := naming.Parse(written)
	if err != nil || ref.Form == naming.FormName || ref.Form == naming.FormSID {
		return full
	}
	return written
}

func (p *planner) respelled(ctx context.Context, d records.Dependent) (string, error) {
	if kept := keptSpelling(d.RunsAs, ""); kept != "" {
		return kept, nil
	}
	return p.spelling(ctx)
}

// spelling is how hosts are told the account: with its domain before it.
func (p *planner) spelling(ctx context.Context) (string, error) {
	return p.spellingOf(ctx, p.account)
}

func (p *planner) spellingOf(ctx context.Context, a records.Account) (string, error) {
	if a.Kind != string(estate.KindDirectory) {
		return `.\` + a.Name, nil
	}
	domains, err := p.planning.store.DomainsOf(ctx)
	if err != nil {
		return "", err
	}
	for _, d := range domains[a.SystemID] {
		if !strings.Contains(d, ".") {
			return d + `\` + a.Name, nil
		}
	}
	if a.UPN != "" {
		return a.UPN, nil
	}
	return "", fmt.Errorf("%w: %s is in a directory without the Windows-domain schema: hosts cannot log on as it", app.ErrInput, a.Name)
}
