package enact_test

import (
	"context"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/propose"
)

// copying makes an estate of disks that keep copies and changes it so that its
// next run drops one, swaps one in each order, and makes a bucket.
func copying(t *testing.T) *coast {
	c := newCoast(t, 1)
	for name, care := range map[string]string{"dropped": "", "swapped": "", "dropfirst": `, swap = "drop-first"`} {
		c.things[name] = &thing{typ: "disk", name: name, attrs: map[string]string{"gigabytes": "10", "kind": `"solid"`,
			"care": `care(at_drop = "copy-first"` + care + ")"}}
	}
	c.write()
	c.enact(c.propose(false))
	delete(c.things, "dropped")
	for _, name := range []string{"swapped", "dropfirst"} {
		c.things[name].attrs["kind"] = `"spinning"`
	}
	c.things["fresh"] = &thing{typ: "bucket", name: "fresh", attrs: map[string]string{}}
	c.write()
	return c
}

// kinds are the disks by name: of what kind they are. Of two with one name it
// says "both".
func (c *coast) kinds() map[string]string {
	out := map[string]string{}
	for _, l := range c.live() {
		if kind, ok := l.Attributes["kind"].(string); ok {
			name := l.Attributes["name"].(string)
			short := name[strings.LastIndex(name, "shore-")+len("shore-"):]
			if out[short] != "" {
				kind = "both"
			}
			out[short] = kind
		}
	}
	return out
}

func TestCopyFirst(t *testing.T) {
	c := copying(t)
	p := c.propose(false)
	require.Equal(t, propose.Counts{New: 1, Swap: 2, Drop: 1}, p.Counts)
	require.Empty(t, p.Data, "nothing is lost")
	r, err := enact.Enact(context.Background(), p, c.options("run", c.drv, c.store))
	require.NoError(t, err)
	require.Len(t, r.Copies, 3)
	want := map[string]string{"dropped-copy": "solid", "swapped": "spinning", "swapped-copy": "solid",
		"dropfirst": "spinning", "dropfirst-copy": "solid"}
	require.Equal(t, want, c.kinds())
	require.Zero(t, c.propose(false).Counts.Changing())
}

// A copy that cannot be made keeps the thing; one that was made before a
// failed removal is used again; and undoing leaves it.
func TestCopyFails(t *testing.T) {
	c := copying(t)
	refused := driver.Refuse("no room for a copy")
	f := &faulty{Driver: c.drv, keys: map[string]int{}, before: func(call, _, _ string) error {
		if call == "copy" {
			return refused
		}
		return nil
	}}
	r, err := enact.Enact(context.Background(), c.propose(false), with(c.options("one", f, c.store), enact.GoOn))
	require.NoError(t, err)
	require.Equal(t, 3, r.Counts.Failed)
	require.Equal(t, map[string]string{"dropped": "solid", "swapped": "both", "dropfirst": "solid"}, c.kinds(),
		"what could not be copied is there still")

	copies := 0
	f.before = func(call, _, _ string) error {
		switch call {
		case "copy":
			copies++
		case "delete":
			return errors.New("in use")
		}
		return nil
	}
	r, err = enact.Enact(context.Background(), c.propose(false), with(c.options("two", f, c.store), enact.GoOn))
	require.NoError(t, err)
	require.Equal(t, 3, r.Counts.Failed)
	require.Equal(t, 3, copies)
	f.before = func(call, _, _ string) error {
		if call == "copy" {
			copies++
		}
		return nil
	}
	r, err = enact.Enact(context.Background(), c.propose(false), c.options("three", f, c.store))
	require.NoError(t, err)
	require.Equal(t, "done", r.Outcome)
	require.Equal(t, 3, copies, "the copies of just before count")
	require.Len(t, r.Copies, 3, "and are told")
	require.Len(t, c.kinds(), 5)
}

func TestCopyAndUndo(t *testing.T) {
	c := copying(t)
	f := &faulty{Driver: c.drv, keys: map[string]int{}, before: func(call, typ, _ string) error {
		if call == "create" && typ == "bucket" {
			return driver.Refuse("no")
		}
		return nil
	}}
	for _, a := range c.propose(false).Actions {
		if a.Kind == propose.Drop {
			require.Equal(t, propose.UndoEmpty, a.Undo)
		}
	}
	o := with(c.options("run", f, c.store), enact.Undo)
	o.Parallel = 4
	r, err := enact.Enact(context.Background(), c.propose(false), o)
	require.NoError(t, err)
	require.Equal(t, "undone", r.Outcome)
	kinds := c.kinds()
	for _, name := range []string{"dropped", "swapped", "dropfirst"} {
		require.Equal(t, "solid", kinds[name], name)
	}
	for _, copied := range r.Copies { // what was copied before the failure stays, empty-handed or not
		_, name, _ := strings.Cut(copied.Address, "/")
		require.Equal(t, "solid", kinds[name+"-copy"], name)
	}
}

func with(o enact.Options, then enact.IfOneFails) enact.Options {
	o.IfOneFails = then
	return o
}
