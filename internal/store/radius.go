package store

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/radius"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// radiusWalk is one walk; it remembers where its nodes are.
type radiusWalk struct {
	*Store
	ctx      context.Context
	evidence []string
	mentions bool
	where    map[string]int64 // node to system
}

// RadiusSource reads what lies one step further, for radius.Walk. evidence
// limits the ties of the account; nil for all. Files that only mention the
// account are left out unless mentions is set.
func (s *Store) RadiusSource(ctx context.Context, evidence []string, mentions bool) radius.Source {
	if len(evidence) == 0 {
		evidence = []string{string(estate.Configured), string(estate.Held), string(estate.Observed), string(estate.Declared)}
	}
	w := &radiusWalk{Store: s, ctx: ctx, evidence: evidence, mentions: mentions, where: map[string]int64{}}
	return w.further
}

// AccountNode is the root of a picture.
func AccountNode(a records.Account) radius.Node {
	return radius.Node{ID: fmt.Sprintf("a%d", a.ID), Kind: radius.NodeAccount, Name: a.Name, System: a.System}
}

func dependentNode(id int64, kind, name, place, state, mode, system string) radius.Node {
	n := radius.Node{ID: "d" + strconv.FormatInt(id, 10), Kind: radius.NodeDependent, Of: kind, Name: name, System: system, Dependent: id, State: state}
	if kind == string(estate.DependentFile) {
		n.Name = place
	}
	d := estate.Dependent{Kind: estate.DependentKind(kind), State: state, StartMode: mode}
	n.Down = d.Kind.Runs() && !d.Up() && (d.ByItself() || state == "failed")
	return n
}

// mostSteps is how many steps of one kind are read at once; the picture says
// when there are more.
const mostSteps = 20_000

// cut takes off what was read to see whether there is more.
func cut(steps []radius.Step) ([]radius.Step, bool) {
	if len(steps) > mostSteps {
		return steps[:mostSteps], true
	}
	return steps, false
}

func (w *radiusWalk) further(from []radius.Node) (out []radius.Step, more bool, err error) {
	var files, programs [][4]any // node, system, kind, path or name
	for _, n := range from {
		switch {
		case n.Kind == radius.NodeAccount:
			steps, err := w.ties(n)
			if err != nil {
				return nil, false, err
			}
			steps, cutOff := cut(steps)
			out, more = append(out, steps...), more || cutOff
		case n.Kind == radius.NodeDependent && n.Of == string(estate.DependentFile):
			path, _, _ := strings.Cut(n.Name, "#")
			files = append(files, [4]any{n.ID, w.where[n.ID], n.Of, path})
		case n.Kind == radius.NodeDependent:
			programs = append(programs, [4]any{n.ID, w.where[n.ID], n.Of, n.Name})
		}
	}
	// All that lies one step further is read at once.
	for _, ask := range []struct {
		of    [][4]any
		why   string
		query string
	}{
		{files, radius.WhyReads, "readers r ON r.system_id = json_extract(w.value, '$[1]') AND r.path = json_extract(w.value, '$[3]')"},
		{programs, radius.WhyNeeds, "needers r ON r.system_id = json_extract(w.value, '$[1]') AND r.kind = json_extract(w.value, '$[2]') AND r.name = json_extract(w.value, '$[3]')"},
	} {
		if len(ask.of) == 0 {
			continue
		}
		steps, err := database.Collect(w.ctx, w.Read, func(rows *sql.Rows) (s radius.Step, err error) {
			s.Edge.Why = ask.why
			return s, w.scan(rows, &s)
		}, "SELECT json_extract(w.value, '$[0]'), "+radiusColumns+", '' FROM json_each(?) w CROSS JOIN "+ask.query+" CROSS JOIN dependents d ON d.id = r.dependent_id AND d.gone = '' JOIN systems ON systems.id = d.system_id LIMIT "+strconv.Itoa(mostSteps+1), database.AsJSON(ask.of))
		if err != nil {
			return nil, false, err
		}
		steps, cutOff := cut(steps)
		out, more = append(out, steps...), more || cutOff
	}
	steps, err := w.clients(programs)
	steps, cutOff := cut(steps)
	return append(out, steps...), more || cutOff, err
}

const radiusColumns = "d.id, d.system_id, d.kind, d.name, d.place, d.state, d.start_mode, systems.name"

// scan reads a step: where it comes from, radiusColumns, and its detail.
func (w *radiusWalk) scan(rows *sql.Rows, s *radius.Step, more ...any) error {
	var id, system int64
	var kind, name, place, state, mode, systemName string
	err := rows.Scan(append([]any{&s.From, &id, &system, &kind, &name, &place, &state, &mode, &systemName, &s.Edge.Detail}, more...)...)
	s.Node = dependentNode(id, kind, name, place, state, mode, systemName)
	if kind != string(estate.DependentFile) {
		s.Node.Name = place
	}
	w.where[s.Node.ID] = system
	return err
}

func (w *radiusWalk) ties(root radius.Node) ([]radius.Step, error) {
	steps, err := database.Collect(w.ctx, w.Read, func(rows *sql.Rows) (s radius.Step, err error) {
		return s, w.scan(rows, &s, &s.Edge.Why, &s.Edge.Strength)
	}, "SELECT 'a' || t.account_id, "+radiusColumns+`, t.detail, t.evidence, t.strength
		FROM ties t JOIN dependents d ON d.id = t.dependent_id JOIN systems ON systems.id = d.system_id
		WHERE t.account_id = CAST(? AS INTEGER) AND d.gone = '' AND t.evidence IN (SELECT value FROM json_each(?)) AND (? OR t.strength <> 'mentions') LIMIT `+strconv.Itoa(mostSteps+1),
		root.ID[1:], database.AsJSON(w.evidence), w.mentions)
	slices.SortFunc(steps, func(a, b radius.Step) int { // cheaper here than in the database
		return cmp.Or(cmp.Compare(a.Node.System, b.Node.System), cmp.Compare(a.Node.Of, b.Node.Of), cmp.Compare(a.Node.Name, b.Node.Name))
	})
	return steps, err
}

// clients finds who is connected to the ports that programs listen on: from the
// addresses of their host, or from the host itself. What owns the other end is a
// unit that is known, or only a program.
func (w *radiusWalk) clients(programs [][4]any) ([]radius.Step, error) {
	some, err := database.Collect(w.ctx, w.Read, database.Single[int64], "SELECT 1 FROM sockets LIMIT 1")
	if err != nil || len(some) == 0 || len(programs) == 0 {
		return nil, err
	}
	return database.Collect(w.ctx, w.Read, func(rows *sql.Rows) (s radius.Step, err error) {
		s.Edge.Why = radius.WhyConnects
		var client int64
		var unit, program, host string
		if err := w.scan(rows, &s, &client, &unit, &program, &host); err != nil {
			return s, err
		}
		if s.Node.Dependent != 0 {
			return s, nil
		}
		s.Node = radius.Node{ID: fmt.Sprintf("c%d/%s%s", client, unit, program), Kind: radius.NodeClient, Of: "program", Name: unit + program, System: host}
		if unit != "" {
			s.Node.Name = unit
		}
		if s.Node.Name == "" {
			s.Node.Name = "unknown program"
		}
		return s, nil
	}, `WITH ports AS (
			SELECT json_extract(w.value, '$[0]') AS node, l.system_id, l.local_port FROM json_each(?) w CROSS JOIN sockets l ON l.system_id = json_extract(w.value, '$[1]') AND l.listens = 1 AND l.unit = json_extract(w.value, '$[3]')
		)
		SELECT DISTINCT p.node, COALESCE(d.id, 0), COALESCE(d.system_id, 0), COALESCE(d.kind, ''), COALESCE(d.name, ''), COALESCE(d.place, ''), COALESCE(d.state, ''), COALESCE(d.start_mode, ''), systems.name,
			'connected to port ' || p.local_port, k.system_id, k.unit, k.program, systems.name
		FROM ports p CROSS JOIN sockets k ON k.peer_port = p.local_port AND k.listens = 0
			AND (k.peer IN (SELECT address FROM systems WHERE id = p.system_id UNION SELECT local FROM sockets WHERE system_id = p.system_id AND local NOT IN ('127.0.0.1', '::1', '0.0.0.0', '::'))
				OR k.system_id = p.system_id AND k.peer IN ('127.0.0.1', '::1'))
		JOIN systems ON systems.id = k.system_id LEFT JOIN dependents d ON d.system_id = k.system_id AND d.kind = 'unit' AND d.place = k.unit AND d.gone = '' LIMIT `+strconv.Itoa(mostSteps+1), database.AsJSON(programs))
}
