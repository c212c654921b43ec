package render

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/chart"
)

// coastMap is a drawing of two wards: a network, instances of a kit that use it, and resources with names that try to be markup.
func coastMap() *chart.Drawing {
	c := &chart.Chart{Estate: "coast", Env: "trial", At: chart.Proposed}
	add := func(ward, name string, within []chart.Instance, uses ...int32) int32 {
		n := int32(len(c.Nodes))
		c.Nodes = append(c.Nodes, &chart.Node{Ward: ward, Address: "medina.machine/" + name, Type: "medina.machine", Name: name, Within: within})
		for _, u := range uses {
			c.Needs = append(c.Needs, chart.Need{From: u, To: n, Why: "network"})
		}
		return n
	}
	coast := add("shore", "coast", nil)
	for i := range 6 {
		in := []chart.Instance{{Name: fmt.Sprint("light-", i), Kit: "station"}}
		quay := add("shore", "quay", in, coast)
		add("shore", "gauge", in, quay)
	}
	add("<b>isle</b>", "</text><script>hurt()</script>", nil, coast)
	add("<b>isle</b>", "a-name-that-is-far-too-long-for-any-box-which-somebody-could-draw-in-a-picture-of-this-kind", nil)
	c.Nodes[1].State, c.Nodes[14].State = "edit", "drop"
	return c.Draw()
}

// TestSVG: every depth is well-formed, holds no markup of others, and is the same each time.
func TestSVG(t *testing.T) {
	m := coastMap()
	for depth, want := range map[Depth]map[string]int{
		DepthWard:     {"ward": 2},
		DepthKit:      {"ward": 2, "kit": 6, "block": 1},
		DepthResource: {"ward": 2, "kit": 6, "node": 15, "block": 1, "s-edit": 4, "s-drop": 3},
		"":            {"node": 15},
	} {
		body := SVG(m, SVGOptions{Depth: depth})
		require.Equal(t, string(body), string(SVG(m, SVGOptions{Depth: depth})))
		classes := map[string]int{}
		dec := xml.NewDecoder(strings.NewReader(string(body)))
		for {
			token, err := dec.Token()
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err)
			if e, is := token.(xml.StartElement); is {
				require.NotContains(t, []string{"script", "b", "image", "a", "foreignObject"}, e.Name.Local)
				for _, a := range e.Attr {
					if a.Name.Local == "class" {
						classes[a.Value]++
					}
				}
			}
		}
		require.Contains(t, string(body), "1 edit", "what is not drawn is counted")
		for class, n := range want {
			require.Equal(t, n, classes[class], "%s at depth %q", class, depth)
		}
	}
}
