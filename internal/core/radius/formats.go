package radius

import (
	"encoding/xml"
	"fmt"
	"io"
	"sort"
	"strconv"
	"strings"
)

// WriteDOT writes the graph in the DOT language, a cluster for each system.
func (g Graph) WriteDOT(w io.Writer) error {
	var out strings.Builder
	out.WriteString("digraph radius {\n  rankdir=LR;\n  node [shape=box];\n")
	systems := map[string][]Node{}
	var names []string
	for _, n := range g.Nodes {
		if systems[n.System] == nil {
			names = append(names, n.System)
		}
		systems[n.System] = append(systems[n.System], n)
	}
	sort.Strings(names)
	for i, name := range names {
		fmt.Fprintf(&out, "  subgraph cluster_%d {\n    label=%s;\n", i, strconv.Quote(name))
		for _, n := range systems[name] {
			style := ""
			switch {
			case n.Kind == NodeAccount:
				style = ", shape=ellipse"
			case n.Down:
				style = ", style=dashed"
			}
			fmt.Fprintf(&out, "    %s [label=%s%s];\n", strconv.Quote(n.ID), strconv.Quote(strings.TrimSpace(n.Of+" "+n.Name)), style)
		}
		out.WriteString("  }\n")
	}
	for _, e := range g.Edges {
		fmt.Fprintf(&out, "  %s -> %s [label=%s];\n", strconv.Quote(e.From), strconv.Quote(e.To), strconv.Quote(e.Why))
	}
	out.WriteString("}\n")
	_, err := io.WriteString(w, out.String())
	return err
}

type graphML struct {
	XMLName xml.Name     `xml:"http://graphml.graphdrawing.org/xmlns graphml"`
	Keys    []graphMLKey `xml:"key"`
	Graph   struct {
		ID    string        `xml:"id,attr"`
		Kind  string        `xml:"edgedefault,attr"`
		Nodes []graphMLNode `xml:"node"`
		Edges []graphMLEdge `xml:"edge"`
	} `xml:"graph"`
}

type graphMLKey struct {
	ID   string `xml:"id,attr"`
	For  string `xml:"for,attr"`
	Name string `xml:"attr.name,attr"`
	Type string `xml:"attr.type,attr"`
}

type graphMLData struct {
	Key   string `xml:"key,attr"`
	Value string `xml:",chardata"`
}

type graphMLNode struct {
	ID   string        `xml:"id,attr"`
	Data []graphMLData `xml:"data"`
}

type graphMLEdge struct {
	From string        `xml:"source,attr"`
	To   string        `xml:"target,attr"`
	Data []graphMLData `xml:"data"`
}

// WriteGraphML writes the graph in GraphML.
func (g Graph) WriteGraphML(w io.Writer) error {
	var doc graphML
	for _, k := range [][2]string{{"name", "node"}, {"kind", "node"}, {"system", "node"}, {"state", "node"}, {"hop", "node"}, {"why", "edge"}, {"strength", "edge"}} {
		doc.Keys = append(doc.Keys, graphMLKey{ID: k[0], For: k[1], Name: k[0], Type: "string"})
	}
	doc.Graph.ID, doc.Graph.Kind = "radius", "directed"
	for _, n := range g.Nodes {
		kind := string(n.Kind)
		if n.Of != "" {
			kind = n.Of
		}
		doc.Graph.Nodes = append(doc.Graph.Nodes, graphMLNode{ID: n.ID, Data: []graphMLData{{"name", n.Name}, {"kind", kind}, {"system", n.System}, {"state", n.State}, {"hop", strconv.Itoa(n.Hop)}}})
	}
	for _, e := range g.Edges {
		doc.Graph.Edges = append(doc.Graph.Edges, graphMLEdge{From: e.From, To: e.To, Data: []graphMLData{{"why", e.Why}, {"strength", e.Strength}}})
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	encoder := xml.NewEncoder(w)
	encoder.Indent("", "  ")
	if err := encoder.Encode(doc); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
