package render

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/graph"
)

// coastMap is a map of two wards: a network, instances of a kit that use it, and resources with names that try to be markup.
func coastMap() Map {
	m := Map{}
	var names []string
	needs := map[int][]string{}
	add := func(ward, name string, within []*declare.Instance, uses ...string) string {
		full := fmt.Sprintf("%s:%d/%s", ward, len(names), name)
		m.Nodes = append(m.Nodes, Node{Ward: ward, Address: "medina.machine/" + name, Type: "medina.machine", Name: name, Within: within})
		needs[len(names)] = uses
		names = append(names, full)
		return full
	}
	coast := add("shore", "coast", nil)
	for i := range 6 {
		in := []*declare.Instance{{Name: fmt.Sprint("light-", i), Kit: "station"}}
		quay := add("shore", "quay", in, coast)
		add("shore", "gauge", in, quay)
	}
	add("<b>isle</b>", "</text><script>hurt()</script>", nil, coast)
	add("<b>isle</b>", "a-name-that-is-far-too-long-for-any-box-which-somebody-could-draw-in-a-picture-of-this-kind", nil)
	m.Graph = graph.NewFrom(names, func(n int, add func(to, why string)) {
		for _, u := range needs[n] {
			add(u, "network")
		}
	})
	m.In = make([]bool, len(names))
	for i := range m.In {
		m.In[i] = true
	}
	return m
}

// TestSVG: every depth is well-formed, holds no markup of others, and is the same each time.
func TestSVG(t *testing.T) {
	m := coastMap()
	for depth, want := range map[Depth]map[string]int{
		DepthWard:     {"ward": 2},
		DepthKit:      {"ward": 2, "kit": 6, "block": 1},
		DepthResource: {"ward": 2, "kit": 6, "node": 15, "block": 1},
		"":            {"node": 15},
	} {
		body := m.SVG("coast", depth)
		require.Equal(t, string(body), string(m.SVG("coast", depth)))
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
		for class, n := range want {
			require.Equal(t, n, classes[class], "%s at depth %q", class, depth)
		}
	}
}
