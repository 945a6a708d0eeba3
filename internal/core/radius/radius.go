// Package radius is the picture of what would be touched if one credential
// changed: the places that use it, and what depends on those in turn. It is a
// graph that is walked outwards from the account, in hops: first its own ties,
// then the programs that read a file, then the units that need a unit to run,
// and the programs on other hosts that are connected to a port of it.
//
// The package holds plain values and knows no database: a Source is asked for
// what lies one hop further.
package radius

import (
	"fmt"
	"sort"
	"strings"
)

// NodeKind says what a node is.
type NodeKind string

// Kinds of node.
const (
	NodeAccount   NodeKind = "account"
	NodeDependent NodeKind = "dependent"
	NodeClient    NodeKind = "client" // a program or address that is no known dependent
)

// Node is one thing in reach.
type Node struct {
	ID        string   `json:"id"`
	Kind      NodeKind `json:"kind"`
	Of        string   `json:"of,omitempty"` // kind of dependent: unit, file, service ...
	Name      string   `json:"name"`
	System    string   `json:"system"`
	Dependent int64    `json:"dependent,omitempty"` // its number, to look it up
	State     string   `json:"state,omitempty"`
	Down      bool     `json:"down,omitempty"` // it should run and does not
	Hop       int      `json:"hop"`            // how many steps away from the account
}

// Edge says why something is in reach.
type Edge struct {
	From     string `json:"from"`
	To       string `json:"to"`
	Why      string `json:"why"`                // configured, held, observed, declared; reads, needs, connects
	Strength string `json:"strength,omitempty"` // of evidence
	Detail   string `json:"detail,omitempty"`
}

// Reasons of edges that are no evidence.
const (
	WhyReads    = "reads"    // a program reads a file
	WhyNeeds    = "needs"    // a unit cannot run without another one
	WhyConnects = "connects" // a program is connected to a port of another one
)

// Graph is the picture.
type Graph struct {
	Root  string `json:"root"`
	Nodes []Node `json:"nodes" nullable:"false"`
	Edges []Edge `json:"edges" nullable:"false"`
	More  bool   `json:"more,omitempty"` // there is more than the limit
}

// Step is one edge that leads out of a node, to a node that may be new.
type Step struct {
	From string
	Node Node
	Edge Edge // From and To are filled in
}

// Source tells what lies one step further than the nodes that it is given, and
// whether there is more than it tells.
type Source func(from []Node) (steps []Step, more bool, err error)

// Walk builds the picture from a root, up to a number of hops and of nodes.
func Walk(root Node, hops, limit int, further Source) (Graph, error) {
	g := Graph{Root: root.ID, Nodes: []Node{root}, Edges: []Edge{}}
	seen := map[string]bool{root.ID: true}
	edges := map[[3]string]bool{}
	edge := []Node{root}
	for hop := 1; hop <= hops && len(edge) > 0; hop++ {
		steps, more, err := further(edge)
		if err != nil {
			return g, err
		}
		g.More = g.More || more
		edge = nil
		for _, s := range steps {
			if s.Node.ID == s.From {
				continue
			}
			if !seen[s.Node.ID] {
				if len(g.Nodes) >= limit {
					g.More = true
					continue
				}
				seen[s.Node.ID] = true
				s.Node.Hop = hop
				g.Nodes = append(g.Nodes, s.Node)
				edge = append(edge, s.Node)
			}
			key := [3]string{s.From, s.Node.ID, s.Edge.Why}
			if !edges[key] {
				edges[key] = true
				s.Edge.From, s.Edge.To = s.From, s.Node.ID
				g.Edges = append(g.Edges, s.Edge)
			}
		}
	}
	return g, nil
}

// Summary counts what is in reach.
type Summary struct {
	Direct  int      `json:"direct"`                   // dependents of the account itself
	Further int      `json:"further"`                  // what depends on those
	Systems []string `json:"systems" nullable:"false"` // in order
	Down    []string `json:"down" nullable:"false"`    // names of what is down already
}

// Sum sums a graph up.
func (g Graph) Sum() Summary {
	s := Summary{Systems: []string{}, Down: []string{}}
	systems := map[string]bool{"": true}
	for _, n := range g.Nodes {
		switch n.Hop {
		case 0:
			continue
		case 1:
			s.Direct++
		default:
			s.Further++
		}
		if !systems[n.System] {
			systems[n.System] = true
			s.Systems = append(s.Systems, n.System)
		}
		if n.Down {
			s.Down = append(s.Down, n.Name+" on "+n.System)
		}
	}
	sort.Strings(s.Systems)
	sort.Strings(s.Down)
	return s
}

// Tree writes the graph as lines for people, by system; what is reached in
// several ways is written once and named again.
func (g Graph) Tree() []string {
	nodes := map[string]Node{}
	for _, n := range g.Nodes {
		nodes[n.ID] = n
	}
	out := map[string][]Edge{}
	for _, e := range g.Edges {
		out[e.From] = append(out[e.From], e)
	}
	for _, list := range out {
		sort.SliceStable(list, func(i, j int) bool {
			a, b := nodes[list[i].To], nodes[list[j].To]
			return a.System+"\x00"+a.Of+"\x00"+a.Name < b.System+"\x00"+b.Of+"\x00"+b.Name
		})
	}
	var lines []string
	written := map[string]bool{g.Root: true}
	var walk func(id, indent string)
	walk = func(id, indent string) {
		list := out[id]
		for i, e := range list {
			n := nodes[e.To]
			branch, deeper := "├─ ", "│  "
			if i == len(list)-1 {
				branch, deeper = "└─ ", "   "
			}
			text := fmt.Sprintf("%s %s", n.Of, n.Name)
			if n.System != nodes[id].System || id == g.Root {
				text += " on " + n.System
			}
			why := e.Why
			if e.Strength != "" {
				why += ", " + e.Strength
			}
			text += "  [" + why + "]"
			switch {
			case n.Down:
				text += "  is down: " + n.State
			case n.State != "" && n.State != "active" && n.State != "running":
				text += "  " + n.State
			}
			if written[n.ID] {
				lines = append(lines, indent+branch+strings.TrimSpace(text)+"  (see above)")
				continue
			}
			written[n.ID] = true
			lines = append(lines, indent+branch+strings.TrimSpace(text))
			walk(n.ID, indent+deeper)
		}
	}
	lines = append(lines, nodes[g.Root].Name+" on "+nodes[g.Root].System)
	walk(g.Root, "")
	return lines
}
