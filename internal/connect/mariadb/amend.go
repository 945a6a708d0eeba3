package mariadb

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// Standing implements connect.Amender. The server has no verdict of its own about another
// account: what SHOW GRANTS lists is what is in force.
func (c Connector) Standing(ctx context.Context, target connect.Target, change privilege.RightChange) (connect.Standing, error) {
	p, unfit := connect.Amendable(c, target, change)
	if unfit != nil {
		return connect.Standing{}, unfit
	}
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		failed.Unclear = false
		return connect.Standing{}, failed
	}
	defer done()
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	wanted := p.Turned(change.Give).Text // the one that gives it
	_, to, _ := strings.Cut(strings.TrimSuffix(wanted, ";\n"), " TO ")
	to = strings.TrimSuffix(strings.TrimSuffix(to, adminOption), " WITH GRANT OPTION")
	rows, err := conn.QueryContext(limited, "SHOW GRANTS FOR "+to)
	if err != nil {
		f := failure(target, connect.StageRead, err, false)
		f.Unclear = false
		return connect.Standing{}, f
	}
	defer rows.Close()
	out := connect.Standing{Words: "SHOW GRANTS does not list it"}
	for rows.Next() {
		var line string
		if err := rows.Scan(&line); err != nil {
			return out, failure(target, connect.StageRead, err, false)
		}
		given := grantOf(line)
		for _, one := range grantOf(wanted) {
			if slices.Contains(given, one) || one.on != "" && slices.Contains(given, grant{"ALL PRIVILEGES", one.on}) {
				out.There, out.InForce, out.Words = true, true, "SHOW GRANTS lists "+strings.TrimSpace(one.what+" "+one.on)
				if strings.HasSuffix(line, adminOption) {
					out.Former = "GRANT" + adminOption
				}
			}
		}
	}
	if err := rows.Err(); err != nil {
		return out, failure(target, connect.StageRead, err, false)
	}
	return out, nil
}

// grant is one privilege on something, or a role on nothing.
type grant struct{ what, on string }

// grantOf reads a statement that grants, as the server writes them or we do: quotes of names
// left out. What it is granted to, and how that signs in, is not looked at.
func grantOf(line string) (out []grant) {
	rest, found := strings.CutPrefix(line, "GRANT ")
	if !found {
		return nil
	}
	rest, _, _ = strings.Cut(rest, " TO ")
	what, on, _ := strings.Cut(rest, " ON ")
	bare := strings.NewReplacer("`", "", "'", "")
	on = bare.Replace(on)
	depth, from := 0, 0
	for i, r := range what + "," {
		switch r {
		case '(':
			depth++
		case ')':
			depth--
		case ',':
			if depth > 0 {
				continue
			}
			verb, columns, has := strings.Cut(bare.Replace(strings.TrimSpace(what[from:i])), " (")
			from = i + 1
			if !has {
				out = append(out, grant{verb, on})
				continue
			}
			for column := range strings.SplitSeq(strings.TrimSuffix(columns, ")"), ",") {
				out = append(out, grant{verb + " (" + strings.TrimSpace(column) + ")", on})
			}
		}
	}
	return out
}

// Amend implements connect.Amender. The client takes one statement at a time.
func (c Connector) Amend(ctx context.Context, target connect.Target, change privilege.RightChange, back bool) error {
	p, unfit := connect.Amendable(c, target, change)
	if unfit != nil {
		return unfit
	}
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		failed.Unclear = false
		return failed
	}
	defer done()
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	text := p.Text
	if back {
		text = p.Back
	}
	if _, err := conn.ExecContext(limited, strings.TrimSuffix(text, ";\n")); err != nil {
		// What is not granted cannot be taken, and need not be.
		var refused *mysql.MySQLError
		if change.Give == back && errors.As(err, &refused) && (refused.Number == 1141 || refused.Number == 1147 || refused.Number == 1403) {
			return nil
		}
		f := failure(target, connect.StageChange, err, true)
		if f.Code == connect.CodeNotPermitted {
			f.Next = "let " + target.Steward.Account + " give it: 'moss system prepare " + target.Name + " --for amend' says how"
		}
		return f
	}
	return nil
}

// Try implements connect.Trier. What the server can take back is taken back; a change of what
// tables there are it cannot.
func (Connector) Try(ctx context.Context, target connect.Target, step string) (connect.Tried, error) {
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return connect.Tried{}, failed
	}
	defer done()
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	tx, err := conn.BeginTx(limited, nil)
	if err != nil {
		return connect.Tried{}, failure(target, connect.StageProve, err, false)
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.ExecContext(limited, step); err != nil {
		f := failure(target, connect.StageProve, err, true)
		if f.Code == connect.CodeUnreachable || f.Code == connect.CodeTimeout {
			return connect.Tried{}, f
		}
		return connect.Tried{Words: f.Words}, nil
	}
	return connect.Tried{OK: true}, nil
}
