package render

import (
	"embed"
	"encoding/json"
	"fmt"
	"strings"
	"sync"

	"kasbah/core/chart"
)

//go:embed page/map
var mapFiles embed.FS

// mapScript is the page's script, whose parts share one scope.
var mapScript = sync.OnceValue(func() string {
	var w strings.Builder
	w.WriteString("\"use strict\";\n(() => {\n")
	for _, name := range []string{"data", "draw", "move", "choose", "find", "keys", "start"} {
		w.Write(mapFile(name + ".js"))
	}
	w.WriteString("})();\n")
	return w.String()
})

func mapFile(name string) []byte {
	body, err := mapFiles.ReadFile("page/map/" + name)
	if err != nil {
		panic(err) // it is embedded
	}
	return body
}

// MapPage writes a map as one HTML file to explore, which needs nothing else and asks nobody. It holds the drawing as
// JSON.
func MapPage(d *chart.Drawing) ([]byte, error) {
	body, err := json.Marshal(d) // which escapes what could end the element that it is in
	if err != nil {
		return nil, err
	}
	w := &page{}
	title := d.Estate + shownAs(d.Chart)
	w.head(title, SVGStyle+string(mapFile("map.css")), mapScript())
	w.put("<body class=\"map\">\n<header class=\"top\">\n<h1>%s <small>%s, %s</small></h1>\n", title,
		Count(d.Containers[0].Resources, "resource"), Count(len(d.Needs), "need"))
	w.WriteString(mapBody)
	w.WriteString(`<script type="application/json" id="data">`)
	w.Write(body)
	w.WriteString("</script>\n<script>" + mapScript() + "</script>\n</body>\n</html>\n")
	return w.Bytes(), nil
}

// shownAs is the environment, and what of it is shown.
func shownAs(c *chart.Chart) string {
	var out strings.Builder
	if c.Env != "" {
		fmt.Fprintf(&out, ", %s", c.Env)
	}
	switch c.At {
	case chart.Live:
		out.WriteString(", with drift")
	case chart.Recorded, chart.Proposed:
		fmt.Fprintf(&out, ", as %s", c.At)
	}
	return out.String()
}

const mapBody = `<search>
<label>Find <input id="find" type="search" placeholder="address, type, attribute or value" autocomplete="off" spellcheck="false"></label>
<output id="hits"></output>
</search>
<span class="states" id="states" role="group" aria-label="show states"></span>
<label>type <select id="type"><option value="">all</option></select></label>
<label>in <select id="where"><option value="">all wards</option></select></label>
<span class="tools"><button type="button" id="nearer" aria-label="nearer">+</button><button type="button" id="farther" aria-label="farther">−</button><button type="button" id="fit">All</button><button type="button" id="dark">Light or dark</button><button type="button" id="keys">Keys</button></span>
</header>
<noscript><p>This page draws with a script. kasbah map -form svg writes a picture that needs none.</p></noscript>
<div class="all">
<nav id="list" aria-label="resources by ward"></nav>
<div class="view"><canvas id="map" tabindex="0" role="img" aria-label="map; the list beside it holds the same in text"></canvas><canvas id="small" aria-hidden="true"></canvas><p id="told" role="status"></p></div>
<aside id="facts" aria-label="what is chosen" hidden></aside>
</div>
<dialog id="help" aria-label="keys">
<table>
<tr><td><kbd>/</kbd><td>find; Enter goes from hit to hit</tr>
<tr><td><kbd>+</kbd> <kbd>-</kbd> <kbd>0</kbd><td>nearer, farther, all</tr>
<tr><td>arrows<td>move</tr>
<tr><td><kbd>u</kbd><td>light what the chosen resource needs</tr>
<tr><td><kbd>d</kbd><td>light what needs it</tr>
<tr><td><kbd>w</kbd><td>light the ways to the resource that is chosen next; Shift and a click do the same</tr>
<tr><td><kbd>Esc</kbd><td>back</tr>
</table>
<p><button type="button" id="shut">Close</button></p>
</dialog>
`
