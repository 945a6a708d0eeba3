package store

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strconv"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/radius"
)

// program is what the walk needs of a unit, service or pool.
type program struct {
	id, system  int64
	node        radius.Node
	uses, needs []string
}

// programs of one system.
type programs struct {
	list    []program
	byFile  map[string][]int // path to those that read it
	needing map[string][]int // kind and place to those that need it
	at      map[string]int   // kind and place
	ports   map[string][]SocketOf
	address []string
}

// radiusWalk is one walk; it remembers the systems that it has read.
type radiusWalk struct {
	*Store
	ctx      context.Context
	evidence []string
	mentions bool
	systems  map[int64]*programs
	where    map[string]int64 // node to system
}

// RadiusSource reads what lies one step further, for radius.Walk. evidence
// limits the ties of the account; nil for all. Files that only mention the
// account are left out unless mentions is set.
func (s *Store) RadiusSource(ctx context.Context, evidence []string, mentions bool) radius.Source {
	if len(evidence) == 0 {
		evidence = []string{string(estate.Configured), string(estate.Held), string(estate.Observed), string(estate.Declared)}
	}
	w := &radiusWalk{Store: s, ctx: ctx, evidence: evidence, mentions: mentions, systems: map[int64]*programs{}, where: map[string]int64{}}
	return w.further
}

// AccountNode is the root of a picture.
func AccountNode(a Account) radius.Node {
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

func (w *radiusWalk) further(from []radius.Node) ([]radius.Step, error) {
	var out []radius.Step
	for _, n := range from {
		var steps []radius.Step
		var err error
		switch {
		case n.Kind == radius.NodeAccount:
			steps, err = w.ties(n)
		case n.Kind == radius.NodeDependent:
			steps, err = w.dependents(n)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, steps...)
	}
	return out, nil
}

func (w *radiusWalk) ties(root radius.Node) ([]radius.Step, error) {
	return collect(w.ctx, w.read, func(rows *sql.Rows) (s radius.Step, err error) {
		var id, system int64
		var kind, name, place, state, mode, systemName string
		err = rows.Scan(&id, &system, &kind, &name, &place, &state, &mode, &systemName, &s.Edge.Why, &s.Edge.Strength, &s.Edge.Detail)
		s.From, s.Node = root.ID, dependentNode(id, kind, name, place, state, mode, systemName)
		w.where[s.Node.ID] = system
		return s, err
	}, `SELECT d.id, d.system_id, d.kind, d.name, d.place, d.state, d.start_mode, systems.name, t.evidence, t.strength, t.detail
		FROM ties t JOIN dependents d ON d.id = t.dependent_id JOIN systems ON systems.id = d.system_id
		WHERE t.account_id = CAST(? AS INTEGER) AND d.gone = '' AND t.evidence IN (SELECT value FROM json_each(?)) AND (? OR t.strength <> 'mentions') ORDER BY systems.name, d.kind, d.place LIMIT 20000`,
		root.ID[1:], text(w.evidence), w.mentions)
}

// of reads the programs of a system once.
func (w *radiusWalk) of(system int64) (*programs, error) {
	if p := w.systems[system]; p != nil {
		return p, nil
	}
	p := &programs{byFile: map[string][]int{}, needing: map[string][]int{}, at: map[string]int{}, ports: map[string][]SocketOf{}}
	w.systems[system] = p
	var err error
	p.list, err = collect(w.ctx, w.read, func(rows *sql.Rows) (v program, err error) {
		var kind, name, place, state, mode, systemName, uses, needs string
		err = rows.Scan(&v.id, &kind, &name, &place, &state, &mode, &systemName, &uses, &needs)
		v.system, v.node = system, dependentNode(v.id, kind, name, place, state, mode, systemName)
		if len(uses) > 4 {
			v.uses = parse[[]string](uses)
		}
		if len(needs) > 4 {
			v.needs = parse[[]string](needs)
		}
		v.node.Name = place
		return v, err
	}, "SELECT d.id, d.kind, d.name, d.place, d.state, d.start_mode, systems.name, d.uses, d.requires FROM dependents d JOIN systems ON systems.id = d.system_id WHERE d.system_id = ? AND d.gone = '' AND d.kind <> 'file'", system)
	if err != nil {
		return p, err
	}
	for i, v := range p.list {
		p.at[v.node.Of+"\x00"+v.node.Name] = i
		w.where[v.node.ID] = system
		for _, file := range v.uses {
			p.byFile[file] = append(p.byFile[file], i)
		}
		for _, other := range v.needs {
			p.needing[v.node.Of+"\x00"+other] = append(p.needing[v.node.Of+"\x00"+other], i)
		}
	}
	sockets, err := collect(w.ctx, w.read, func(rows *sql.Rows) (v SocketOf, err error) {
		return v, rows.Scan(&v.Listens, &v.Local, &v.LocalPort, &v.Unit)
	}, "SELECT listens, local, local_port, unit FROM sockets WHERE system_id = ?", system)
	if err != nil {
		return p, err
	}
	p.address, err = collect(w.ctx, w.read, single[string], "SELECT address FROM systems WHERE id = ?", system)
	for _, k := range sockets {
		if k.Listens && k.Unit != "" {
			p.ports[k.Unit] = append(p.ports[k.Unit], k)
		}
		if k.Local != "127.0.0.1" && k.Local != "::1" && k.Local != "0.0.0.0" && k.Local != "::" && !slices.Contains(p.address, k.Local) {
			p.address = append(p.address, k.Local)
		}
	}
	return p, err
}

func (w *radiusWalk) dependents(n radius.Node) ([]radius.Step, error) {
	system, found := w.where[n.ID]
	if !found {
		return nil, nil
	}
	p, err := w.of(system)
	if err != nil {
		return nil, err
	}
	var out []radius.Step
	add := func(list []int, why string) {
		for _, i := range list {
			out = append(out, radius.Step{From: n.ID, Node: p.list[i].node, Edge: radius.Edge{Why: why}})
		}
	}
	if n.Of == string(estate.DependentFile) {
		path := n.Name
		for i := range path {
			if path[i] == '#' {
				path = path[:i]
				break
			}
		}
		add(p.byFile[path], radius.WhyReads)
		return out, nil
	}
	add(p.needing[n.Of+"\x00"+n.Name], radius.WhyNeeds)
	for _, port := range p.ports[n.Name] {
		steps, err := w.clients(n, system, p, port)
		if err != nil {
			return nil, err
		}
		out = append(out, steps...)
	}
	return out, nil
}

// clients finds who is connected to a port.
func (w *radiusWalk) clients(n radius.Node, system int64, p *programs, port SocketOf) ([]radius.Step, error) {
	type client struct {
		system  int64
		name    string
		unit    string
		program string
	}
	list, err := collect(w.ctx, w.read, func(rows *sql.Rows) (c client, err error) {
		return c, rows.Scan(&c.system, &c.name, &c.unit, &c.program)
	}, `SELECT DISTINCT k.system_id, systems.name, k.unit, k.program FROM sockets k JOIN systems ON systems.id = k.system_id
		WHERE k.peer_port = ? AND k.listens = 0 AND (k.peer IN (SELECT value FROM json_each(?)) OR k.system_id = ? AND k.peer IN ('127.0.0.1', '::1')) LIMIT 2000`, port.LocalPort, text(p.address), system)
	if err != nil {
		return nil, err
	}
	var out []radius.Step
	for _, c := range list {
		detail := fmt.Sprintf("connected to port %d", port.LocalPort)
		node := radius.Node{ID: fmt.Sprintf("c%d/%s%s", c.system, c.unit, c.program), Kind: radius.NodeClient, Of: "program", Name: c.program, System: c.name}
		if c.unit != "" {
			node.Name = c.unit
			other, err := w.of(c.system)
			if err != nil {
				return nil, err
			}
			if i, found := other.at[string(estate.DependentUnit)+"\x00"+c.unit]; found {
				node = other.list[i].node
			}
		}
		if node.Name == "" {
			node.Name = "unknown program"
		}
		out = append(out, radius.Step{From: n.ID, Node: node, Edge: radius.Edge{Why: radius.WhyConnects, Detail: detail}})
	}
	return out, nil
}
