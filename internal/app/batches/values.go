package batches

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"time"
	"unicode"
	"unicode/utf8"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// Values that people give are known to somebody, so they are held to more than those that
// are made here: a second person approves that they are used, and what can be said of them
// without asking a system is said of all at once, before anything is kept. What is wrong
// is told by line: neither of its fields is repeated, for they may have been swapped.

// Bounds of a given value, in characters.
const (
	shortestGiven = 12
	longestGiven  = 256
)

// mostWrong lines of a list are looked for: judging a value takes a while.
const mostWrong = 200

// keepGiven is how long a given value is kept that no rotation took.
const keepGiven = 7 * 24 * time.Hour

// valued finds credentials by the spellings of a list, and seals the values beside them.
func (batches *Batches) valued(ctx context.Context, ask Ask) ([]records.CredentialID, []records.Secret, error) {
	if ask.Wish.Length != 0 || ask.Wish.Without != "" {
		return nil, nil, fmt.Errorf("%w: a length and characters are those of values that are made, and these are given", app.ErrInput)
	}
	known, err := batches.store.Fingerprints(ctx)
	if err != nil {
		return nil, nil, err
	}
	used := map[string]string{}
	for _, f := range known {
		used[f] = "it is, or lately was, the value of a credential in custody"
	}
	reader := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(ask.Values.Reveal(), []byte("\xef\xbb\xbf")))) // some programs begin a file so
	reader.FieldsPerRecord, reader.Comment = -1, '#'
	var items []records.CredentialID
	var given []records.Secret
	var wrong []string
	at := map[records.CredentialID]int{}
	for len(wrong) < mostWrong {
		fields, err := reader.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			var bad *csv.ParseError
			line := 0
			if errors.As(err, &bad) {
				line, err = bad.Line, bad.Err
			}
			wrong = append(wrong, fmt.Sprintf("line %d: it is no CSV: %v; a value with a comma or a quote stands in quotes, and a quote in it is doubled", line, err))
			break // what follows cannot be told apart
		}
		line, _ := reader.FieldPos(0)
		if len(fields) == 2 && line == 1 && fields[0] == "name" && fields[1] == "value" {
			continue
		}
		if len(fields) != 2 {
			wrong = append(wrong, fmt.Sprintf("line %d: it has %d fields: a name and a value are needed", line, len(fields)))
			continue
		}
		value := secret.New(fields[1])
		c, sealed, words, err := batches.oneValue(ctx, fields[0], value)
		switch {
		case err != nil:
			return nil, nil, err
		case words != "":
		case at[c.ID] != 0:
			words = fmt.Sprintf("its credential is that of line %d", at[c.ID])
		case used[sealed.Fingerprint] != "":
			words = used[sealed.Fingerprint]
		default:
			at[c.ID], used[sealed.Fingerprint] = line, fmt.Sprintf("its value is that of line %d", line)
			items, given = append(items, c.ID), append(given, sealed)
			continue
		}
		wrong = append(wrong, fmt.Sprintf("line %d: %s", line, words))
	}
	return items, given, wrongLines(wrong)
}

// oneValue finds the credential of a line and seals the value for it, or says in words why
// the line is wrong.
func (batches *Batches) oneValue(ctx context.Context, spelling string, value secret.Value) (c records.Credential, sealed records.Secret, words string, err error) {
	c, err = batches.finder.FindCredential(ctx, spelling)
	switch {
	case ctx.Err() != nil:
		return c, sealed, "", ctx.Err()
	case errors.Is(err, app.ErrNotFound):
		return c, sealed, "its first field names no credential", nil
	case errors.Is(err, app.ErrInput):
		return c, sealed, "its first field names several accounts, or is no name", nil
	case err != nil:
		return c, sealed, "", err
	case c.Kind != credential.Password:
		return c, sealed, c.Name + " is a key: values are given for passwords", nil
	case !c.InCustody():
		return c, sealed, c.Name + " is not in custody", nil
	}
	a, err := batches.store.Account(ctx, c.AccountID)
	if err != nil {
		return c, sealed, "", err
	}
	if words = unfit(value, a.Name, a.UPN, a.System); words != "" {
		return c, sealed, c.Name + ": " + words, nil
	}
	sealed, err = batches.sealed.NewSecret(c, 0, value)
	return c, sealed, "", err
}

// unfit says why a value is no new password of an account, whatever its system takes.
func unfit(value secret.Value, names ...string) string {
	text := value.RevealString()
	n := utf8.RuneCountInString(text)
	switch {
	case !utf8.ValidString(text):
		return "the value is no text in UTF-8"
	case n < shortestGiven || n > longestGiven:
		return fmt.Sprintf("the value has %d characters: %d to %d are taken", n, shortestGiven, longestGiven)
	}
	for _, r := range text {
		if unicode.IsControl(r) || unicode.IsSpace(r) && r != ' ' {
			return "the value has a character that cannot be typed, or ends a line"
		}
	}
	if text[0] == ' ' || text[len(text)-1] == ' ' {
		return "the value begins or ends with a space, which many files lose"
	}
	if words := secret.Guessable(value, credential.LeastBits, names...); words != "" {
		return "the value is too weak: " + words
	}
	return ""
}

// Forget removes given values that were taken, or that nothing took for a week.
func (batches *Batches) Forget(ctx context.Context) error {
	_, err := batches.store.ForgetGiven(ctx, batches.base.Now().Add(-keepGiven))
	return err
}
