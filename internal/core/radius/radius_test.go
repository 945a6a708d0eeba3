package radius

import (
	"encoding/xml"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func dependent(id, of, name, system string) Node {
	return Node{ID: id, Kind: NodeDependent, Of: of, Name: name, System: system, State: "active"}
}

// source is a small estate: a file read by a unit, a unit that needs it, a
// program on another host connected to it, and a circle.
func source(from []Node) ([]Step, bool, error) {
	further := map[string][]Step{
		"a": {{Node: dependent("f", "file", "/etc/x.env", "quay1"), Edge: Edge{Why: "held", Strength: "matches"}}, {Node: dependent("u", "unit", "x.service", "quay1"), Edge: Edge{Why: "observed"}}},
		"f": {{Node: dependent("u", "unit", "x.service", "quay1"), Edge: Edge{Why: WhyReads}}},
		"u": {{Node: dependent("v", "unit", "y.service", "quay1"), Edge: Edge{Why: WhyNeeds}}, {Node: Node{ID: "w", Kind: NodeDependent, Of: "unit", Name: "\"odd\" <&>.service", System: "tide1", State: "failed", Down: true}, Edge: Edge{Why: WhyConnects}}},
		"v": {{Node: dependent("u", "unit", "x.service", "quay1"), Edge: Edge{Why: WhyNeeds}}},
	}
	var out []Step
	for _, n := range from {
		for _, s := range further[n.ID] {
			s.From = n.ID
			out = append(out, s)
		}
	}
	return out, false, nil
}

func TestWalk(t *testing.T) {
	root := Node{ID: "a", Kind: NodeAccount, Name: "svc-x", System: "dir"}
	g, err := Walk(root, 9, 100, source)
	require.NoError(t, err)
	assert.Len(t, g.Nodes, 5)
	sum := g.Sum()
	assert.Equal(t, 2, sum.Direct)
	assert.Equal(t, 2, sum.Further)
	assert.Equal(t, []string{"quay1", "tide1"}, sum.Systems)
	assert.Len(t, sum.Down, 1)
	tree := strings.Join(g.Tree(), "\n")
	assert.True(t, strings.HasPrefix(tree, "svc-x on dir\n├─ file /etc/x.env on quay1  [held, matches]\n│  └─ unit x.service  [reads]\n"), tree)
	assert.Contains(t, tree, "is down: failed")
	assert.Contains(t, tree, "(see above)")

	near, err := Walk(root, 1, 100, source)
	require.NoError(t, err)
	assert.Len(t, near.Nodes, 3)
	assert.False(t, near.More)
	cut, err := Walk(root, 1, 100, func(from []Node) ([]Step, bool, error) {
		steps, _, err := source(from)
		return steps[:1], true, err
	})
	require.NoError(t, err)
	assert.True(t, cut.More, "a source that does not tell all says so")
	few, err := Walk(root, 9, 2, source)
	require.NoError(t, err)
	assert.True(t, few.More)
	assert.Len(t, few.Nodes, 2)
	for _, e := range few.Edges {
		assert.Contains(t, []string{"a", "f"}, e.To, "no edge leads out of the picture")
	}

	var dot, graph strings.Builder
	require.NoError(t, g.WriteDOT(&dot))
	assert.Contains(t, dot.String(), `label="unit \"odd\" <&>.service", style=dashed`)
	require.NoError(t, g.WriteGraphML(&graph))
	var back struct {
		Nodes []struct{} `xml:"graph>node"`
		Edges []struct{} `xml:"graph>edge"`
	}
	require.NoError(t, xml.Unmarshal([]byte(graph.String()), &back))
	assert.Len(t, back.Nodes, 5)
	assert.Len(t, back.Edges, len(g.Edges))
}
