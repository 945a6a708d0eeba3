package picture

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// SetCheck sets the application's own check of what runs. A target that nothing
// could ever answer at is refused when it is set.
func (picture *Picture) SetCheck(ctx context.Context, by access.Actor, id records.DependentID, check rotation.AppCheck) error {
	if err := access.Decide(by, access.SetCheck, access.Object{}); err != nil {
		return err
	}
	d, err := picture.store.Dependent(ctx, id)
	if err != nil {
		return err
	}
	if !d.Kind.Runs() {
		return fmt.Errorf("%w: only what runs has a check of its own: a unit, a service or an application pool; %s is a %s", app.ErrInput, d.Place, d.Kind)
	}
	if err := validCheck(check); err != nil {
		return fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	return picture.store.SetCheck(ctx, id, &check, ledger.Entry{Actor: by.Name, Act: "dependent.set-check", Phase: ledger.Outcome, Subject: d.Name, System: d.System, Result: "done", Changes: checkChanges(d, check)})
}

func checkChanges(d records.Dependent, check rotation.AppCheck) []ledger.Change {
	before := ""
	if d.Check != nil {
		before = d.Check.Kind + " " + d.Check.Target
	}
	return ledger.Diff([3]string{"check", before, check.Kind + " " + check.Target})
}

func validCheck(check rotation.AppCheck) error {
	if strings.ContainsAny(check.Target, "\r\n\x00") {
		return fmt.Errorf("the target of a check is one line")
	}
	switch check.Kind {
	case "tcp":
		host, port, err := net.SplitHostPort(check.Target)
		n, numberErr := strconv.Atoi(port)
		if err != nil || host == "" || numberErr != nil || n < 1 || n > 65535 {
			return fmt.Errorf("%q is not host:port with a port of 1 to 65535", check.Target)
		}
		if check.Contains != "" {
			return fmt.Errorf("a tcp check looks whether the port accepts connections: it reads no text")
		}
	case "http":
		u, err := url.Parse(check.Target)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" {
			return fmt.Errorf("%q is not a URL of the form http://host:port/path", check.Target)
		}
		if u.User != nil {
			return fmt.Errorf("a password in a URL would stand in clear in the list of checks: use an address that needs none")
		}
	case "command":
		if strings.TrimSpace(check.Target) == "" {
			return fmt.Errorf("a command check needs a command")
		}
	default:
		return fmt.Errorf("unknown kind of check %q (tcp, http or command)", check.Kind)
	}
	return nil
}

// RemoveCheck takes it away.
func (picture *Picture) RemoveCheck(ctx context.Context, by access.Actor, id records.DependentID) error {
	if err := access.Decide(by, access.RemoveCheck, access.Object{Kind: "dependent", Name: fmt.Sprint(id)}); err != nil {
		return err
	}
	return picture.store.SetCheck(ctx, id, nil, ledger.Entry{Actor: by.Name, Act: "dependent.remove-check", Phase: ledger.Outcome, Subject: fmt.Sprint(id), Result: "done"})
}
