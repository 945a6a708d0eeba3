package batches

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/records"
)

// choose finds the credentials of a batch, in their order.
func (batches *Batches) choose(ctx context.Context, ask Ask) (items []records.CredentialID, chosen string, given []records.Secret, err error) {
	ways := 0
	for _, is := range []bool{ask.Label != "", len(ask.Filters) > 0, len(ask.Names) > 0, len(ask.Findings) > 0, !ask.Values.Empty()} {
		if is {
			ways++
		}
	}
	switch {
	case ways != 1:
		return nil, "", nil, fmt.Errorf("%w: choose credentials in one way: by a label, by filters, by names, by findings, or with new values", app.ErrInput)
	case ask.Label != "":
		chosen = "the label " + ask.Label
		list, err := batches.store.Candidates(ctx, 0)
		if err != nil {
			return nil, "", nil, err
		}
		for _, c := range list {
			for _, label := range c.Labels {
				if label == ask.Label {
					items = append(items, c.CredentialID)
				}
			}
		}
	case len(ask.Filters) > 0:
		chosen = strings.Join(ask.Filters, ", ")
		for q := (records.Query{Filters: append([]string{"state=custody"}, ask.Filters...), Limit: 1000}); ; {
			page, err := batches.store.Credentials(ctx, q)
			if err != nil {
				return nil, "", nil, err
			}
			for _, c := range page.Items {
				items = append(items, c.ID)
			}
			if q.Cursor = page.Next; q.Cursor == "" {
				break
			}
		}
	case len(ask.Findings) > 0:
		chosen = "findings: " + strings.Join(ask.Findings, ", ")
		if items, err = batches.found(ctx, ask.Findings); err != nil {
			return nil, "", nil, err
		}
	case len(ask.Names) > 0:
		chosen = fmt.Sprintf("a list of %d names", len(ask.Names))
		if items, err = batches.named(ctx, ask.Names); err != nil {
			return nil, "", nil, err
		}
	default:
		if items, given, err = batches.valued(ctx, ask); err != nil {
			return nil, "", nil, err
		}
		chosen = fmt.Sprintf("a list of %d names with new values", len(items))
	}
	switch {
	case len(items) == 0:
		return nil, "", nil, fmt.Errorf("%w: no credential in custody is chosen by %s", app.ErrInput, chosen)
	case len(items) > mostItems:
		return nil, "", nil, fmt.Errorf("%w: %d credentials are chosen: at most %d at a time", app.ErrInput, len(items), mostItems)
	}
	return items, chosen, given, nil
}

// named finds credentials by spellings. Everything that is wrong is told, with its line.
func (batches *Batches) named(ctx context.Context, names []string) ([]records.CredentialID, error) {
	var items []records.CredentialID
	var wrong []string
	at := map[records.CredentialID]int{}
	for i, name := range names {
		name = strings.TrimSpace(name)
		if name == "" || strings.HasPrefix(name, "#") {
			continue
		}
		c, err := batches.finder.FindCredential(ctx, name)
		var words string
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case err != nil:
			words = strings.TrimPrefix(err.Error(), app.ErrInput.Error()+": ")
		case !c.InCustody():
			words = name + " is not in custody"
		case at[c.ID] != 0:
			words = fmt.Sprintf("%s is the same as line %d", name, at[c.ID])
		default:
			at[c.ID] = i + 1
			items = append(items, c.ID)
			continue
		}
		wrong = append(wrong, fmt.Sprintf("line %d: %s", i+1, words))
	}
	return items, wrongLines(wrong)
}

// wrongLines is an error about lines of a list; nil when none is wrong.
func wrongLines(wrong []string) error {
	if len(wrong) == 0 {
		return nil
	}
	more := ""
	if len(wrong) > mostTold {
		more = fmt.Sprintf("; and %d more", len(wrong)-mostTold)
		wrong = wrong[:mostTold]
	}
	return fmt.Errorf("%w: nothing was kept, for not everything is right: %s%s", app.ErrInput, strings.Join(wrong, "; "), more)
}

// found are the credentials in custody that open findings are about, each once.
func (batches *Batches) found(ctx context.Context, filters []string) (items []records.CredentialID, err error) {
	seen := map[records.CredentialID]bool{}
	for q := (records.Query{Filters: filters, Limit: 1000}); ; {
		page, err := batches.store.Findings(ctx, false, q)
		if err != nil {
			return nil, err
		}
		for _, f := range page.Items {
			var c records.Credential
			switch {
			case f.CredentialID != 0:
				c, err = batches.store.Credential(ctx, f.CredentialID)
			case f.AccountID != 0:
				c, err = batches.store.PasswordOf(ctx, f.AccountID)
			}
			if err != nil && !errors.Is(err, app.ErrNotFound) {
				return nil, err
			}
			if err == nil && c.InCustody() && !seen[c.ID] {
				seen[c.ID] = true
				items = append(items, c.ID)
			}
		}
		if q.Cursor = page.Next; q.Cursor == "" {
			return items, nil
		}
	}
}
