package conformance

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"kasbah/core/driver"
	"kasbah/core/value"
)

func (x *Suite) describe(context.Context) error {
	typ, name := x.typ, x.s.Type
	if typ.Name != name {
		return fmt.Errorf("the type %s calls itself %s", name, typ.Name)
	}
	id := typ.Attribute(typ.ID)
	switch {
	case id == nil:
		return fmt.Errorf("%s has no attribute %s, that identifies it", name, typ.ID)
	case !id.Output && !(id.Required && id.Fixed) && !(typ.NamedByPattern() && id.Fixed):
		return fmt.Errorf("%s.%s identifies a thing: it is either decided by the cloud (output: true), or required "+
			"and fixed", name, typ.ID)
	}
	for _, a := range typ.Attributes {
		if a.Required && a.Output {
			return fmt.Errorf("%s.%s is required and decided by the cloud", name, a.Name)
		}
		if a.Refers != "" && x.catalog.Types[a.Refers] == nil {
			return fmt.Errorf("%s.%s refers to %s, which is not there", name, a.Name, a.Refers)
		}
	}
	for _, k := range typ.Identify {
		if typ.Attribute(k) == nil {
			return fmt.Errorf("%s is identified by %s, which it does not have", name, k)
		}
	}
	return nil
}

func (x *Suite) life(ctx context.Context) error {
	inputs := x.next()
	made, err := x.create(ctx, value.CloneMap(inputs), "")
	if err != nil {
		return err
	}
	if made.ID == "" {
		return errors.New("what was made has no id")
	}
	if err := x.holds(inputs, made); err != nil {
		return fmt.Errorf("made: %w", err)
	}
	if x.typ.Unshown {
		return x.unseen(ctx, made, inputs)
	}
	read, err := x.d.Read(ctx, x.s.Type, made.ID)
	if err != nil {
		return fmt.Errorf("read: %w", err)
	}
	if err := x.alike("a thing reads as it was made", made, read); err != nil {
		return err
	}
	if x.typ.Unlisted {
		return x.unlisted(ctx, made, inputs)
	}
	all, err := x.list(ctx)
	if err != nil {
		return err
	}
	if _, there := all[made.ID]; !there {
		return fmt.Errorf("what was made as %s is not listed", made.ID)
	}
	if err := x.alike("a thing lists as it reads", read, all[made.ID]); err != nil {
		return err
	}
	match := value.Map{}
	for _, k := range append([]string{x.typ.ID}, x.typ.Identify...) {
		match[k] = made.Attributes[k]
	}
	found, err := x.d.Find(ctx, x.s.Type, match)
	if err != nil {
		return fmt.Errorf("find: %w", err)
	}
	if x.typ.Attribute(x.typ.ID).Output && len(found) != 1 || !slices.ContainsFunc(found,
		func(l driver.Live) bool { return l.ID == made.ID }) {
		return fmt.Errorf("find: %d things are like %s", len(found), value.Plain(match))
	}
	tag := made.Tag
	if x.editable() {
		edited, err := x.d.Update(ctx, x.s.Type, made.ID, x.change(inputs), made.Tag, "")
		if err != nil {
			return fmt.Errorf("update: %w", err)
		}
		if err := x.holds(x.s.Edit.To, edited); err != nil {
			return fmt.Errorf("edited: %w", err)
		}
		if edited.ID != made.ID {
			return fmt.Errorf("an edit made %s of %s", edited.ID, made.ID)
		}
		for k := range x.s.Edit.From {
			_, stays := x.s.Edit.To[k]
			if a := x.typ.Attribute(k); !stays && !a.HasDefault && edited.Attributes[k] != nil {
				return fmt.Errorf("edited: %s was to be taken away, and is %s", k, value.Plain(edited.Attributes[k]))
			}
		}
		if x.typ.Tags && made.Tag == edited.Tag {
			return errors.New("an edit does not change the tag")
		}
		tag = edited.Tag
	}
	if err := x.delete(ctx, made.ID, tag, ""); err != nil {
		return fmt.Errorf("delete: %w", err)
	}
	if all, err = x.list(ctx); err != nil {
		return err
	}
	if _, there := all[made.ID]; there {
		return errors.New("what was deleted is still listed")
	}
	return nil
}

// unseen is the rest of the life of a thing that nothing shows.
func (x *Suite) unseen(ctx context.Context, made driver.Live, inputs value.Map) error {
	if x.editable() {
		if _, err := x.d.Update(ctx, x.s.Type, made.ID, x.change(inputs), made.Tag, ""); err != nil {
			return fmt.Errorf("update: %w", err)
		}
	}
	if err := x.delete(ctx, made.ID, "", ""); err != nil {
		return fmt.Errorf("delete: %w", err)
	}
	if err := x.delete(ctx, made.ID, "", ""); !errors.Is(err, driver.ErrGone) {
		return unlike("deleting what is gone", err, "")
	}
	return nil
}

// unlisted is the rest of the life of a thing that its id alone shows.
func (x *Suite) unlisted(ctx context.Context, made driver.Live, inputs value.Map) error {
	if err := x.unseen(ctx, made, inputs); err != nil {
		return err
	}
	if _, err := x.d.Read(ctx, x.s.Type, made.ID); !errors.Is(err, driver.ErrGone) {
		return unlike("reading what is gone", err, "")
	}
	return nil
}

func (x *Suite) keys(ctx context.Context) error {
	if x.typ.KeyMemory == 0 {
		return skipped("the type remembers no keys")
	}
	before, err := x.list(ctx)
	if err != nil {
		return err
	}
	key := fmt.Sprint("proof-", time.Now().UnixNano())
	inputs := x.next()
	const times = 6 // at once, and each from another goroutine
	ids, failed := make([]string, times), make([]error, times)
	var wg sync.WaitGroup
	for i := range times {
		wg.Go(func() {
			l, err := x.create(ctx, value.CloneMap(inputs), key)
			ids[i], failed[i] = l.ID, err
		})
	}
	wg.Wait()
	if err := errors.Join(failed...); err != nil {
		return err
	}
	if slices.Sort(ids); ids[0] != ids[times-1] {
		return fmt.Errorf("one key made %s and %s", ids[0], ids[times-1])
	}
	after, err := x.list(ctx)
	if err != nil {
		return err
	}
	if len(after) != len(before)+1 {
		return fmt.Errorf("one key made %d things", len(after)-len(before))
	}
	live, err := x.d.Read(ctx, x.s.Type, ids[0])
	if err != nil {
		return fmt.Errorf("read: %w", err)
	}
	if x.editable() {
		first, err := x.d.Update(ctx, x.s.Type, live.ID, x.change(inputs), live.Tag, key+"-edit")
		if err != nil {
			return fmt.Errorf("update: %w", err)
		}
		again, err := x.d.Update(ctx, x.s.Type, live.ID, x.change(inputs), live.Tag, key+"-edit")
		if err != nil {
			return fmt.Errorf("a repeated update repeats its answer, though its tag is past: %w", err)
		}
		if err := same("a repeated update", first, again); err != nil {
			return err
		}
		live = first
	}
	for range 2 {
		if err := x.delete(ctx, live.ID, live.Tag, key+"-gone"); err != nil {
			return fmt.Errorf("a delete that is repeated with its key repeats its answer: %w", err)
		}
	}
	return nil
}

func (x *Suite) locate(ctx context.Context) error {
	if !x.typ.Locate {
		return skipped("the type does not say so")
	}
	l, ok := x.d.(driver.Locator)
	if !ok {
		return errors.New("the catalogue says that things can be located, and the driver cannot")
	}
	key := fmt.Sprint("proof-", time.Now().UnixNano())
	if _, err := l.Locate(ctx, x.s.Type, key); !errors.Is(err, driver.ErrGone) {
		return unlike("a key that made nothing", err, "")
	}
	made, err := x.create(ctx, x.next(), key)
	if err != nil {
		return err
	}
	found, err := l.Locate(ctx, x.s.Type, key)
	if err != nil {
		return fmt.Errorf("locate: %w", err)
	}
	if err := same("it is located as it was made", made, found); err != nil {
		return err
	}
	return x.delete(ctx, made.ID, made.Tag, "")
}

func (x *Suite) tags(ctx context.Context) error {
	if !x.typ.Tags {
		return skipped("the type has no tags")
	}
	inputs := x.next()
	l, err := x.create(ctx, value.CloneMap(inputs), "")
	if err != nil {
		return err
	}
	if x.editable() {
		if _, err := x.d.Update(ctx, x.s.Type, l.ID, x.change(inputs), `"not-this"`, ""); !errors.Is(err,
			driver.ErrTag) {
			return unlike("an update with another tag", err, "tags are not heeded: take tag and tags away")
		}
	}
	if err := x.delete(ctx, l.ID, `"not-this"`, ""); !errors.Is(err, driver.ErrTag) {
		return unlike("a delete with another tag", err, "tags are not heeded: take tag and tags away")
	}
	is, err := x.d.Read(ctx, x.s.Type, l.ID)
	if err != nil {
		return fmt.Errorf("read: %w", err)
	}
	if err := same("a refused call has no effect", l, is); err != nil {
		return err
	}
	return x.delete(ctx, l.ID, l.Tag, "")
}

func (x *Suite) copies(ctx context.Context) error {
	if !x.typ.Copies {
		return skipped("the type cannot be copied")
	}
	copier, ok := x.d.(driver.Copier)
	if !ok {
		return errors.New("the catalogue says that things can be copied, and the driver cannot")
	}
	l, err := x.create(ctx, x.next(), "")
	if err != nil {
		return err
	}
	key := fmt.Sprint("proof-", time.Now().UnixNano())
	first, err := copier.Copy(ctx, x.s.Type, l.ID, key)
	if err != nil {
		return fmt.Errorf("copy: %w", err)
	}
	x.made = append(x.made, first.ID)
	if first.ID == l.ID {
		return errors.New("a copy is the thing itself")
	}
	if x.typ.KeyMemory > 0 {
		again, err := copier.Copy(ctx, x.s.Type, l.ID, key)
		if err != nil {
			return fmt.Errorf("copy: %w", err)
		}
		if err := same("one key gives one copy", first, again); err != nil {
			return err
		}
	}
	is, err := x.d.Read(ctx, x.s.Type, l.ID)
	if err != nil {
		return fmt.Errorf("read: %w", err)
	}
	if err := same("what is copied stays as it is", l, is); err != nil {
		return err
	}
	if err := x.delete(ctx, l.ID, l.Tag, ""); err != nil {
		return err
	}
	if _, err := x.d.Read(ctx, x.s.Type, first.ID); err != nil {
		return fmt.Errorf("a copy is a thing of its own: %w", err)
	}
	if _, err := copier.Copy(ctx, x.s.Type, l.ID, ""); !errors.Is(err, driver.ErrGone) {
		return unlike("a copy of what is gone", err, "")
	}
	return x.delete(ctx, first.ID, first.Tag, "")
}

func (x *Suite) gone(ctx context.Context) error {
	inputs := x.next()
	l, err := x.create(ctx, value.CloneMap(inputs), "")
	if err != nil {
		return err
	}
	if err := x.delete(ctx, l.ID, "", ""); err != nil {
		return fmt.Errorf("delete: %w", err)
	}
	if _, err := x.d.Read(ctx, x.s.Type, l.ID); !errors.Is(err, driver.ErrGone) {
		return unlike("a read of what is gone", err, "where such a thing still shows, gone names the values by which "+
			"it is")
	}
	if x.editable() {
		if _, err := x.d.Update(ctx, x.s.Type, l.ID, x.change(inputs), l.Tag, ""); !errors.Is(err, driver.ErrGone) {
			return unlike("an update of what is gone", err, "where what it answers shows that, gone names the values "+
				"by which it is")
		}
	}
	// some say once more that it is done
	if err := x.delete(ctx, l.ID, "", ""); err != nil && !errors.Is(err, driver.ErrGone) {
		return unlike("a delete of what is gone", err, "")
	}
	return nil
}

func (x *Suite) refusals(ctx context.Context) error {
	inputs := value.Map{"no such attribute": "x"}
	for _, a := range x.typ.Attributes {
		if a.Required && a.Refers != "" { // so that it gets as far as the refusal
			inputs[a.Name] = x.next()[a.Name]
		}
	}
	_, err := x.create(ctx, inputs, "")
	var e *driver.Error
	switch {
	case err == nil:
		return skipped("the API accepts unknown attributes, and the catalogue does not say otherwise")
	case !errors.As(err, &e):
		return unlike("a create with an attribute that is not there", err, "")
	case e.Passing:
		return fmt.Errorf("a refusal does not pass by itself: %w", err)
	case driver.OutcomeOf(err) != driver.NotDone:
		return fmt.Errorf("a refusal does not say that nothing was done: %w", err)
	case e.Error() == "":
		return errors.New("a refusal says nothing")
	}
	if _, err := x.d.Create(ctx, "no-such-type", value.Map{}, ""); err == nil {
		return errors.New("it makes things of a type that is not there")
	}
	for _, err := range x.d.List(ctx, "no-such-type") {
		if err != nil {
			return nil
		}
	}
	return errors.New("it lists things of a type that is not there")
}

// pages: what is there all the while is listed exactly once, however much comes
// and goes meanwhile.
func (x *Suite) pages(ctx context.Context) error {
	many, times := 30, 10
	if x.s.Few {
		many, times = 3, 2
	}
	var stay []string
	for range many {
		l, err := x.create(ctx, x.next(), "")
		if err != nil {
			return err
		}
		stay = append(stay, l.ID)
	}
	stop, ended := make(chan struct{}), make(chan error, 1)
	go func() {
		for {
			select {
			case <-stop:
				ended <- nil
				return
			default:
			}
			l, err := x.create(ctx, x.next(), "")
			if err == nil {
				err = x.delete(ctx, l.ID, "", "")
			}
			if err != nil {
				ended <- fmt.Errorf("meanwhile: %w", err)
				return
			}
		}
	}()
	look := func() error {
		for range times {
			all, err := x.list(ctx)
			if err != nil {
				return err
			}
			for _, id := range stay {
				if _, there := all[id]; !there {
					return fmt.Errorf("%s is there and not listed", id)
				}
			}
		}
		return nil
	}
	err := look()
	if err == nil {
		err = x.skim(ctx, stay)
	}
	close(stop)
	if err := errors.Join(err, <-ended); err != nil {
		return err
	}
	for _, id := range stay {
		if err := x.delete(ctx, id, "", ""); err != nil {
			return fmt.Errorf("delete: %w", err)
		}
	}
	return nil
}

// skim reads the list in the quick way, where there is one, while of half of what
// stays no more is wanted than id and tag.
func (x *Suite) skim(ctx context.Context, stay []string) error {
	d, can := x.d.(driver.Skimmer)
	if !can {
		return nil
	}
	all, err := x.list(ctx)
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for _, id := range stay[:len(stay)/2] {
		known[id] = true
	}
	seen := map[string]bool{}
	for l, err := range d.Skim(ctx, x.s.Type, func(id, tag string) bool { return known[id] && tag == all[id].Tag }) {
		if err != nil {
			return fmt.Errorf("skim: %w", err)
		}
		seen[l.ID] = true
		if !slices.Contains(stay, l.ID) || known[l.ID] && l.Attributes == nil && l.Tag == all[l.ID].Tag {
			continue
		}
		if err := same("skim", all[l.ID], l); err != nil {
			return err
		}
	}
	for _, id := range stay {
		if !seen[id] {
			return fmt.Errorf("%s is listed, and skim leaves it out", id)
		}
	}
	return nil
}

func (x *Suite) cancelled(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	cancel()
	began := time.Now()
	if _, err := x.d.Read(ctx, x.s.Type, "x"); !errors.Is(err, context.Canceled) {
		return unlike("a read that is cancelled", err, "")
	}
	if _, err := x.create(ctx, x.next(), ""); !errors.Is(err, context.Canceled) ||
		driver.OutcomeOf(err) == driver.Done {
		return unlike("a create that is cancelled", err, "")
	}
	for _, err := range x.d.List(ctx, x.s.Type) {
		if !errors.Is(err, context.Canceled) {
			return unlike("a list that is cancelled", err, "")
		}
	}
	if d := time.Since(began); d > 5*time.Second {
		return fmt.Errorf("calls that are cancelled end after %s", d)
	}
	return nil
}
