// Package drivertest is the conformance suite of driver.Driver: what a new
// implementation must pass. It tests what the catalogue claims.
package drivertest

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/driver"
)

// Sample is a type that the suite may make things of.
type Sample struct {
	Type   string
	Inputs func(n int) value.Map // the n-th thing's; all different
	Edit   driver.Change         // an edit that is allowed
}

// Run runs the suite on an empty cloud. open gives a driver; each call may
// give another one on the same cloud.
func Run(t *testing.T, open func(t *testing.T) driver.Driver, s Sample) {
	d := open(t)
	catalog, err := d.Describe(context.Background())
	require.NoError(t, err)
	typ := catalog.Types[s.Type]
	require.NotNil(t, typ)
	x := &suite{d: d, s: s, typ: typ}
	t.Run("describe", func(t *testing.T) { describe(t, catalog) })
	t.Run("life", x.life)
	t.Run("one key, one thing", x.keys)
	t.Run("tags", x.tags)
	t.Run("copies", x.copies)
	t.Run("gone", x.gone)
	t.Run("refusals", x.refusals)
	t.Run("pages", x.pages)
	t.Run("cancelled", x.cancelled)
}

type suite struct {
	d   driver.Driver
	s   Sample
	typ *schema.Type
	n   int
}

func (x *suite) create(t *testing.T, key string) driver.Live {
	x.n++
	l, err := x.d.Create(context.Background(), x.s.Type, x.s.Inputs(x.n), key)
	require.NoError(t, err)
	return l
}

func (x *suite) list(t *testing.T) map[string]driver.Live {
	out := map[string]driver.Live{}
	for l, err := range x.d.List(context.Background(), x.s.Type) {
		require.NoError(t, err)
		require.NotContains(t, out, l.ID, "a thing is listed twice")
		out[l.ID] = l
	}
	return out
}

func describe(t *testing.T, c *schema.Catalog) {
	require.NotEmpty(t, c.Version)
	for name, typ := range c.Types {
		require.Equal(t, name, typ.Name)
		id := typ.Attribute(typ.ID)
		require.NotNil(t, id, "%s has no attribute %s", name, typ.ID)
		require.True(t, id.Output, "%s.%s is decided by the cloud", name, typ.ID)
		for _, a := range typ.Attributes {
			require.False(t, a.Required && a.Output, "%s.%s is required and decided by the cloud", name, a.Name)
			if a.Refers != "" {
				require.Contains(t, c.Types, a.Refers, "%s.%s refers to nothing", name, a.Name)
			}
		}
	}
}

func (x *suite) life(t *testing.T) {
	ctx := context.Background()
	made := x.create(t, "")
	require.NotEmpty(t, made.ID)
	for k, v := range x.s.Inputs(x.n) {
		require.True(t, value.Equal(v, made.Attributes[k]), "%s is %v, not %v", k, made.Attributes[k], v)
	}
	read, err := x.d.Read(ctx, x.s.Type, made.ID)
	require.NoError(t, err)
	require.Equal(t, made, read, "a thing reads as it was made")
	require.Equal(t, read, x.list(t)[made.ID], "and lists so")
	found, err := x.d.Find(ctx, x.s.Type, value.Map{x.typ.ID: made.ID})
	require.NoError(t, err)
	require.Equal(t, []driver.Live{made}, found)
	edited, err := x.d.Update(ctx, x.s.Type, made.ID, x.s.Edit, made.Tag, "")
	require.NoError(t, err)
	for k, v := range x.s.Edit.To {
		require.True(t, value.Equal(v, edited.Attributes[k]))
	}
	if x.typ.Tags {
		require.NotEqual(t, made.Tag, edited.Tag, "an edit changes the tag")
	}
	require.NoError(t, x.d.Delete(ctx, x.s.Type, made.ID, edited.Tag, ""))
	require.NotContains(t, x.list(t), made.ID)
}

func (x *suite) keys(t *testing.T) {
	if x.typ.KeyMemory == 0 {
		t.Skip("the type remembers no keys")
	}
	ctx := context.Background()
	before := len(x.list(t))
	x.n++
	inputs := x.s.Inputs(x.n)
	var ids sync.Map
	var wg sync.WaitGroup
	for range 6 { // at once, and each from another goroutine
		wg.Go(func() {
			l, err := x.d.Create(ctx, x.s.Type, value.CloneMap(inputs), "key-one")
			if err != nil {
				t.Errorf("create: %v", err)
			}
			ids.Store(l.ID, true)
		})
	}
	wg.Wait()
	var id string
	count := 0
	ids.Range(func(k, _ any) bool { id = k.(string); count++; return true })
	require.Equal(t, 1, count, "one key gives one thing")
	require.Len(t, x.list(t), before+1)
	live, err := x.d.Read(ctx, x.s.Type, id)
	require.NoError(t, err)
	first, err := x.d.Update(ctx, x.s.Type, id, x.s.Edit, live.Tag, "key-two")
	require.NoError(t, err)
	again, err := x.d.Update(ctx, x.s.Type, id, x.s.Edit, live.Tag, "key-two")
	require.NoError(t, err, "a repeated call repeats its answer, though its tag is past")
	require.Equal(t, first, again)
	require.NoError(t, x.d.Delete(ctx, x.s.Type, id, first.Tag, "key-three"))
	require.NoError(t, x.d.Delete(ctx, x.s.Type, id, first.Tag, "key-three"))
}

func (x *suite) tags(t *testing.T) {
	if !x.typ.Tags {
		t.Skip("the type has no tags")
	}
	ctx := context.Background()
	l := x.create(t, "")
	_, err := x.d.Update(ctx, x.s.Type, l.ID, x.s.Edit, `"not-this"`, "")
	require.ErrorIs(t, err, driver.ErrTag)
	require.ErrorIs(t, x.d.Delete(ctx, x.s.Type, l.ID, `"not-this"`, ""), driver.ErrTag)
	same, err := x.d.Read(ctx, x.s.Type, l.ID)
	require.NoError(t, err)
	require.Equal(t, l, same, "a refused call has no effect")
	require.NoError(t, x.d.Delete(ctx, x.s.Type, l.ID, l.Tag, ""))
}

func (x *suite) copies(t *testing.T) {
	copier, ok := x.d.(driver.Copier)
	if !x.typ.Copies {
		t.Skip("the type cannot be copied")
	}
	require.True(t, ok, "the schema says that it can be copied")
	ctx := context.Background()
	l := x.create(t, "")
	first, err := copier.Copy(ctx, x.s.Type, l.ID, "key-copy")
	require.NoError(t, err)
	require.NotEqual(t, l.ID, first.ID)
	if x.typ.KeyMemory > 0 {
		again, err := copier.Copy(ctx, x.s.Type, l.ID, "key-copy")
		require.NoError(t, err)
		require.Equal(t, first, again, "one key gives one copy")
	}
	same, err := x.d.Read(ctx, x.s.Type, l.ID)
	require.NoError(t, err)
	require.Equal(t, l, same, "what is copied stays as it is")
	require.NoError(t, x.d.Delete(ctx, x.s.Type, l.ID, l.Tag, ""))
	_, err = x.d.Read(ctx, x.s.Type, first.ID)
	require.NoError(t, err, "a copy is a thing of its own")
	_, err = copier.Copy(ctx, x.s.Type, l.ID, "")
	require.ErrorIs(t, err, driver.ErrGone)
	require.NoError(t, x.d.Delete(ctx, x.s.Type, first.ID, first.Tag, ""))
}

func (x *suite) gone(t *testing.T) {
	ctx := context.Background()
	l := x.create(t, "")
	require.NoError(t, x.d.Delete(ctx, x.s.Type, l.ID, "", ""))
	_, err := x.d.Read(ctx, x.s.Type, l.ID)
	require.ErrorIs(t, err, driver.ErrGone)
	_, err = x.d.Update(ctx, x.s.Type, l.ID, x.s.Edit, l.Tag, "")
	require.ErrorIs(t, err, driver.ErrGone)
	require.ErrorIs(t, x.d.Delete(ctx, x.s.Type, l.ID, "", ""), driver.ErrGone)
}

func (x *suite) refusals(t *testing.T) {
	ctx := context.Background()
	_, err := x.d.Create(ctx, x.s.Type, value.Map{"no such attribute": "x"}, "")
	var e *driver.Error
	require.ErrorAs(t, err, &e)
	require.False(t, e.Passing, "a refusal does not pass by itself")
	require.NotEmpty(t, e.Error())
	_, err = x.d.Create(ctx, "no-such-type", value.Map{}, "")
	require.Error(t, err)
	for _, err := range x.d.List(ctx, "no-such-type") {
		require.Error(t, err)
	}
}

// pages: what is there all the while is listed exactly once, however much
// comes and goes meanwhile.
func (x *suite) pages(t *testing.T) {
	ctx := context.Background()
	var stay []string
	for range 30 {
		stay = append(stay, x.create(t, "").ID)
	}
	stop := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() {
		for n := 10_000; ; n++ {
			select {
			case <-stop:
				return
			default:
			}
			l, err := x.d.Create(ctx, x.s.Type, x.s.Inputs(n), "")
			if err == nil {
				err = x.d.Delete(ctx, x.s.Type, l.ID, "", "")
			}
			if err != nil {
				t.Errorf("meanwhile: %v", err)
				return
			}
		}
	})
	for range 10 {
		listed := x.list(t)
		for _, id := range stay {
			require.Contains(t, listed, id)
		}
	}
	close(stop)
	wg.Wait()
	for _, id := range stay {
		require.NoError(t, x.d.Delete(ctx, x.s.Type, id, "", ""))
	}
}

func (x *suite) cancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	began := time.Now()
	_, err := x.d.Read(ctx, x.s.Type, "x")
	require.ErrorIs(t, err, context.Canceled)
	_, err = x.d.Create(ctx, x.s.Type, x.s.Inputs(1), "")
	require.ErrorIs(t, err, context.Canceled)
	for _, err := range x.d.List(ctx, x.s.Type) {
		require.True(t, errors.Is(err, context.Canceled), fmt.Sprint(err))
	}
	require.Less(t, time.Since(began), 5*time.Second, "cancellation is prompt")
}
