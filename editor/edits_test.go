package editor

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	protocol "github.com/tliron/glsp/protocol_3_16"

	"kasbah/core/code"
	"kasbah/core/value"
)

// desk is a project with a copy of the demo, for edits and their effect.
type desk struct {
	*project
	t    *testing.T
	dir  string
	was  map[string]string
	said []string
}

func newDesk(t *testing.T) *desk {
	d := &desk{t: t, dir: demo(t), was: map[string]string{}}
	d.project = newProject(d.dir, open)
	t.Cleanup(func() { require.NoError(t, d.close()) })
	for _, f := range append(d.sources(), "kasbah.toml") {
		body, err := os.ReadFile(filepath.Join(d.dir, f))
		require.NoError(t, err)
		d.was[f] = string(body)
	}
	d.said = said(d.check(context.Background(), "live")[0].problems)
	return d
}

// declared are the resources as they are now: by address, with their inputs.
func (d *desk) declared() map[string]string {
	out := map[string]string{}
	for _, r := range d.views["live"].eval.Declared.Resources {
		out[r.Full()] = string(value.Encode(r.Inputs())) + strings.Join(r.NeedAddresses(), " ")
	}
	return out
}

// apply changes the texts, and checks them.
func (d *desk) apply(edits map[string][]protocol.TextEdit) []string {
	for uri, list := range edits {
		path, ok := pathOf(uri)
		require.True(d.t, ok)
		rel, err := filepath.Rel(d.dir, path)
		require.NoError(d.t, err)
		body, err := d.body(rel)
		require.NoError(d.t, err)
		d.setText(rel, []byte(applied(string(body), list)))
	}
	return said(d.check(context.Background(), "live")[0].problems)
}

func (d *desk) reset() {
	for f, text := range d.was {
		d.setText(f, []byte(text))
	}
	require.Equal(d.t, d.said, said(d.check(context.Background(), "live")[0].problems))
}

// TestRenames: every name in the demo can be renamed, and the estate declares the same then, but for the
// address of a resource that is renamed itself. A name that is refused is refused with a reason.
func TestRenames(t *testing.T) {
	d := newDesk(t)
	ctx := context.Background()
	before := d.declared()
	done := map[location]bool{}
	kinds := map[symbolKind]int{}
	refusals := 0
	for _, file := range value.Keys(d.was) {
		for at := range d.was[file] {
			f := d.file(file)
			v := d.views["live"]
			sym := d.symbolAt(v, f, at)
			if sym == nil || sym.kind == ofFile || done[location{sym.file, sym.span}] {
				continue
			}
			done[location{sym.file, sym.span}] = true
			edits, err := d.renames(ctx, v, sym, "quite_new")
			if sym.kind == ofInstance {
				edits, err = d.renames(ctx, v, sym, "quite-new")
			}
			if err != nil {
				refusals++
				require.NotEmpty(t, err.Error())
				continue
			}
			kinds[sym.kind]++
			require.NotEmpty(t, edits, "%s %v", file, sym)
			now := d.apply(d.workspaceEdit(edits).Changes)
			for i := range now { // columns may move, and names in messages with them
				require.Equal(t, strings.Fields(d.said[i])[0], strings.Fields(now[i])[0], "%s in %s: %s", sym.name, file, now[i])
			}
			require.Len(t, now, len(d.said), "%s in %s: %v", sym.name, file, now)
			after := d.declared()
			if sym.kind == ofResource || sym.kind == ofInstance {
				require.Len(t, after, len(before), sym.name)
			} else {
				require.Equal(t, before, after, "%s in %s", sym.name, file)
			}
			d.reset()
		}
	}
	for _, kind := range []symbolKind{ofName, ofParam, ofInput, ofPublished, ofResource} {
		require.Positive(t, kinds[kind], kind)
	}
	t.Logf("renamed %v, refused %d", kinds, refusals)
}

// TestMakesInputs: a literal that becomes an input, and calls that become a loop, declare the same as before.
func TestMakesInputs(t *testing.T) {
	d := newDesk(t)
	d.setText("signal/signal.star", []byte(d.was["signal/signal.star"]+"\nmedina.bucket(\"ebb\", tags = owned())\n"+
		"medina.bucket(\"flow\", versions = True, tags = owned())\nmedina.bucket(\"gull\", tags = owned())\nmedina.bucket(\"tern\", tags = owned())\n"))
	d.was["signal/signal.star"] = string(d.texts["signal/signal.star"])
	d.said = said(d.check(context.Background(), "live")[0].problems)
	before := d.declared()
	inputs, loops := 0, 0
	for _, file := range []string{"signal/signal.star", "shore/shore.star", "chronicle/chronicle.star"} {
		text := d.was[file]
		for at := 0; at < len(text); at += 3 {
			a := &acting{ctx: context.Background(), p: d.project, v: d.views["live"], f: d.file(file),
				span: code.Span{From: at, To: at}}
			a.makeInput()
			a.makeLoop()
			for _, action := range a.out {
				now := d.apply(action.Edit.Changes)
				require.Len(t, now, len(d.said), "%s at %d of %s: %v", action.Title, at, file, now)
				require.Equal(t, before, d.declared(), "%s at %d of %s", action.Title, at, file)
				if strings.HasPrefix(action.Title, "Make") {
					inputs++
				} else {
					loops++
				}
				d.reset()
			}
		}
	}
	require.Greater(t, inputs, 20)
	require.Positive(t, loops)
}

// TestRenameRecorded: a name that is computed, a care that is set elsewhere and a name that is taken are refused.
func TestRenameRefused(t *testing.T) {
	d := newDesk(t)
	for find, c := range map[string]struct{ file, name, says string }{
		`"log-"`:          {"chronicle/chronicle.star", "x", "its name is computed"},
		`deck = medina`:   {"signal/signal.star", "mast", "signal/signal.star has a \"mast\" already"},
		`mast = medina`:   {"signal/signal.star", "len", "is a name of the language"},
		`domain = input`:  {"signal/signal.star", "if", "cannot be the name of a variable"},
		`"deck", network`: {"signal/signal.star", "a b", "cannot be the name of a resource"},
		`"relay", relay`:  {"signal/signal.star", "deck", `"deck" is there already`},
		`"domain", kind`:  {"signal/signal.star", "Domain", "cannot be the name of an input"},
	} {
		text := d.was[c.file]
		at := strings.Index(text, find) + 2
		sym := d.symbolAt(d.views["live"], d.file(c.file), at)
		require.NotNil(t, sym, find)
		_, err := d.renames(context.Background(), d.views["live"], sym, c.name)
		require.ErrorContains(t, err, c.says, find)
	}
}

// TestHoverIsText: what a value, a help text or a cloud holds is shown as text: no link, and no markup.
func TestHoverIsText(t *testing.T) {
	const hostile = "a`](command:evil) [press](command:evil) <img src=x>\n# big"
	for _, shown := range []string{coded(hostile), asText(hostile), sentence(hostile)} {
		require.NotContains(t, shown, "\n")
		if !strings.HasPrefix(shown, "`") {
			require.NotRegexp(t, `(^|[^\\])\](\(|$)`, shown, "no link")
		}
	}
	require.Equal(t, 2, strings.Count(coded(hostile), "`"), "the code ends where the value does")
	require.NotRegexp(t, `(^|[^\\])<`, asText(hostile), "no markup")
}
