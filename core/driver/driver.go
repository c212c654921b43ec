// Package driver is the contract between Kasbah's core and whatever speaks to
// one cloud or API. Implementations are in folders below; drivertest holds
// the conformance suite that each of them passes.
package driver

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// Driver speaks to one cloud. Its methods may be called from many goroutines
// at once. Types are named without the driver's name.
//
// Create, Update and Delete return once the work is done, however long the
// cloud takes; cancelling the context ends the waiting, not the work. The
// same key on a repeated call makes the cloud repeat its answer instead of
// the work, as far as the type's KeyMemory says.
//
// A write ends in one of three ways, and OutcomeOf tells which by its error: done,
// certainly not done, unknown. An error counts as unknown unless it says otherwise:
// only what never left, or was refused explicitly, is certain. A failure of whatever
// follows an accepted write, such as a read of its status, is unknown (Uncertain).
type Driver interface {
	// Describe returns the catalogue. It must not need the cloud to be there
	// where the description is known without it.
	Describe(ctx context.Context) (*schema.Catalog, error)
	// Read reads one thing; ErrGone when there is none.
	Read(ctx context.Context, typ, id string) (Live, error)
	// List reads every thing of a type, a page at a time. An error ends it.
	List(ctx context.Context, typ string) iter.Seq2[Live, error]
	// Find reads the things whose attributes equal those of match.
	Find(ctx context.Context, typ string, match value.Map) ([]Live, error)
	// Create makes a thing.
	Create(ctx context.Context, typ string, inputs value.Map, key string) (Live, error)
	// Update changes a thing that still carries the tag; ErrTag when it does
	// not, ErrGone when it is gone. An empty tag asks for no check.
	Update(ctx context.Context, typ, id string, change Change, tag, key string) (Live, error)
	// Delete deletes a thing that still carries the tag, as Update does.
	Delete(ctx context.Context, typ, id, tag, key string) error
	// Close ends whatever the driver started.
	Close() error
}

// Live is a thing as the cloud shows it.
type Live struct {
	ID         string
	Tag        string    // entity tag; "" where the cloud has none
	Attributes value.Map // inputs and outputs, by schema name
}

// Matches reports whether a thing's attributes equal those of match.
func (l Live) Matches(match value.Map) bool {
	for name, v := range match {
		if !value.Equal(l.Attributes[name], v) {
			return false
		}
	}
	return true
}

// FindInList is the Find of drivers that can do no better than to list.
func FindInList(things iter.Seq2[Live, error], match value.Map) ([]Live, error) {
	var out []Live
	for l, err := range things {
		if err != nil {
			return nil, err
		}
		if l.Matches(match) {
			out = append(out, l)
		}
	}
	return out, nil
}

// Change is an edit: the attributes that change, as they are and as they are
// to be. One that is missing in To is to be taken away.
type Change struct {
	From, To value.Map
	All      value.Map // every input as it is to be, for clouds that replace the whole thing
}

// Event is one line of a cloud's change feed.
type Event struct {
	At    time.Time
	Who   string
	What  string // created, edited, deleted
	Type  string
	ID    string
	Paths []string // attributes that changed, where it was an edit
}

// Events says which events of a change feed are asked for.
type Events struct {
	Type, ID string    // of one type, and of one thing; empty for all
	Since    time.Time // earlier ones may be left out; the zero time for none
}

// Feed is implemented by drivers whose cloud tells who changed what.
type Feed interface {
	// Changes reads the feed, newest first: who looks for a change seldom looks far back.
	Changes(ctx context.Context, which Events) iter.Seq2[Event, error]
}

// NewestFirst gives events as a Feed does, whatever order they come in; of those at one moment the
// last comes first.
func NewestFirst(events []Event, yield func(Event, error) bool) {
	slices.Reverse(events)
	slices.SortStableFunc(events, func(a, b Event) int { return b.At.Compare(a.At) })
	for _, e := range events {
		if !yield(e, nil) {
			return
		}
	}
}

// Skimmer is implemented by drivers whose lists tell the tag of each thing, so that
// the rest need not be read of things that are known already.
type Skimmer interface {
	// Skim is List that may leave out the attributes of things of whose id and tag
	// enough reports true; Live.Attributes of those is nil.
	Skim(ctx context.Context, typ string, enough func(id, tag string) bool) iter.Seq2[Live, error]
}

// Vetter is implemented by drivers that can tell more about inputs than a schema
// says.
type Vetter interface {
	// Vet reports what is wrong with inputs, without effects. Those that are not
	// known yet, and secret ones, are left out.
	Vet(ctx context.Context, typ string, inputs value.Map) []Problem
}

// Rehearser is implemented by drivers that can try calls without effect.
type Rehearser interface {
	// Rehearsals says whether calls can be tried, and whether all of them with one request.
	Rehearsals() (can, together bool)
	// Rehearse tries calls in their order, each after those before it as if they had been
	// made, or Alone, and leaves everything as it is. There is one result for each call.
	Rehearse(ctx context.Context, calls []Call) ([]Tried, error)
}

// Call is a call that is tried.
type Call struct {
	Do     string    // create, update or delete
	Type   string    // without the driver's name
	ID     string    // of what is changed or deleted
	Inputs value.Map // of a create
	Change Change    // of an update
	// In place of values that only earlier calls tell, Inputs and Change hold Made and
	// Joined.
}

// Made stands for what an attribute of a thing will be that an earlier call makes.
type Made struct {
	Call int        // counted from 0
	Path value.Path // begins with the attribute
}

// Joined stands for a text that is put together from texts and Made.
type Joined []any

// Tried is how a tried call ended.
type Tried struct {
	Tried bool
	Alone bool  // calls behind it do not see what it did
	Err   error // what the cloud refuses; nil where it would be done, or was not tried
}

// Copier is implemented by drivers that can copy things of the types whose
// schema says so.
type Copier interface {
	// Copy makes a copy of a thing, with the data that it holds, as a thing of
	// its own. The same key on a repeated call answers with the same copy.
	Copy(ctx context.Context, typ, id, key string) (Live, error)
}

// Locator is implemented by drivers that can find out what a key made, for the
// types whose schema says so.
type Locator interface {
	// Locate finds the thing that a create with the key made; ErrGone where it
	// made nothing.
	Locate(ctx context.Context, typ, key string) (Live, error)
}

var (
	// ErrGone is returned for a thing that is not there.
	ErrGone = errors.New("it is gone")
	// ErrTag is returned when a thing no longer carries the tag of a call.
	ErrTag = errors.New("it was changed since it was read")
)

// Problem is what the cloud says about one attribute.
type Problem struct {
	Path    string // as value.Path writes it; "" for the thing as a whole
	Message string
}

// Outcome is how a write ended. The zero value is Unknown, so that an error
// which says nothing about it never counts as proof.
type Outcome int

const (
	Unknown Outcome = iota // it may have had its effect, now or later
	Done
	NotDone // it certainly had no effect
)

// OutcomeOf is the outcome of a write that returned err. Only a nil error means
// Done, and only ErrGone, ErrTag and an *Error with NotDone set mean NotDone.
func OutcomeOf(err error) Outcome {
	var e *Error
	switch {
	case err == nil:
		return Done
	case errors.As(err, &e):
		if e.NotDone {
			return NotDone
		}
		return Unknown
	case errors.Is(err, ErrGone), errors.Is(err, ErrTag):
		return NotDone
	}
	return Unknown
}

// Error is a refusal or failure of the cloud.
type Error struct {
	Message  string        // in the cloud's own words
	Problems []Problem     // by attribute, where it says so
	NotDone  bool          // the call certainly had no effect: it never left, or was refused explicitly
	Passing  bool          // may pass by itself: too many requests, not reachable, too slow
	After    time.Duration // how long the cloud asks to wait; 0 when it does not say
	SlowDown bool          // the cloud asks for fewer calls at a time
	Made     string        // id of what a create made, where that is known although the outcome is not
}

// Refuse is the error of a call that certainly had no effect.
func Refuse(format string, args ...any) *Error {
	return &Error{Message: fmt.Sprintf(format, args...), NotDone: true}
}

// Unsent is err, of what comes before a write is sent: the write certainly had no
// effect. ErrGone, ErrTag and the end of a context stay what they are.
func Unsent(err error) error {
	var e *Error
	switch {
	case err == nil || OutcomeOf(err) == NotDone || errors.Is(err, context.Canceled) || errors.Is(err,
		context.DeadlineExceeded):
		return err
	case errors.As(err, &e):
		out := *e
		out.NotDone, out.Made, out.Message = true, "", err.Error()
		return &out
	}
	return &Error{Message: err.Error(), NotDone: true}
}

// Uncertain is the error of a write that the cloud accepted and that failed afterwards
// with err. made is the id of what it made, or "". Of what err is, only the end of a
// context shows in it: a thing that a read did not find may be there all the same.
func Uncertain(err error, made string) error {
	out := &Error{Made: made}
	var e *Error
	if errors.As(err, &e) {
		out.Problems, out.Passing, out.After, out.SlowDown = e.Problems, e.Passing, e.After, e.SlowDown
		out.Made = cmp.Or(made, e.Made)
	}
	out.Message = err.Error()
	for _, end := range []error{context.DeadlineExceeded, context.Canceled} {
		if errors.Is(err, end) {
			return fmt.Errorf("%w: %w", out, end)
		}
	}
	return out
}

// Error is what the cloud said.
func (e *Error) Error() string {
	if e.Message != "" {
		return e.Message
	}
	var all []string
	for _, p := range e.Problems {
		all = append(all, fmt.Sprintf("%s: %s", p.Path, p.Message))
	}
	return strings.Join(all, "; ")
}

// IsPassing reports whether err may pass by itself, and how long to wait.
func IsPassing(err error) (bool, time.Duration) {
	var e *Error
	if errors.As(err, &e) {
		return e.Passing, e.After
	}
	return false, 0
}

// MadeBy is the id of what a create with an unknown outcome made; "" where
// nobody knows it.
func MadeBy(err error) string {
	var e *Error
	if errors.As(err, &e) {
		return e.Made
	}
	return ""
}

// IsSlowDown reports whether the cloud asks for fewer calls at a time.
func IsSlowDown(err error) bool {
	var e *Error
	return errors.As(err, &e) && e.SlowDown
}
