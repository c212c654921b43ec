package declare

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"

	"go.starlark.net/starlark"

	"kasbah/core/form"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// careValue is what care(…) returns.
type careValue struct{ care Care }

func (c *careValue) String() string        { return "care(…)" }
func (c *careValue) Type() string          { return "care" }
func (c *careValue) Freeze()               {}
func (c *careValue) Truth() starlark.Bool  { return true }
func (c *careValue) Hash() (uint32, error) { return 0, errors.New("a care cannot be a key") }

func (ev *evaluator) care(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var after, leave *starlark.List
	var excuse *starlark.Dict
	var guard bool
	var swap, timeout, atDrop, renamedFrom string
	if err := starlark.UnpackArgs("care", args, kwargs, "after?", &after, "guard?", &guard, "leave?", &leave, "swap?",
		&swap, "excuse?", &excuse, "timeout?", &timeout, "at_drop?", &atDrop, "renamed_from?",
		&renamedFrom); err != nil {
		return nil, err
	}
	c := Care{Care: schema.Care{Guard: guard, Swap: swap}, RenamedFrom: renamedFrom}
	if renamedFrom != "" {
		if ward, short := value.SplitWard(renamedFrom); short == "" || strings.ContainsAny(renamedFrom, " \t\n*") ||
			ward != "" && !ev.o.Estate.HasWard(ward) {
			return nil, fmt.Errorf("care: renamed_from is %q, and must be a former address such as "+
				"\"medina.machine/gauge\" or \"WARD:medina.machine/gauge\", or the former name of an instance",
				renamedFrom)
		}
	}
	if swap != "" && swap != "create-first" && swap != "drop-first" {
		return nil, fmt.Errorf("care: swap is %q, and must be \"create-first\" or \"drop-first\"", swap)
	}
	switch atDrop {
	case "", "remove":
	case schema.LetGo, schema.CopyFirst:
		c.AtDrop = atDrop
	default:
		return nil, fmt.Errorf("care: at_drop is %q, and must be \"remove\", \"let-go\" or \"copy-first\"", atDrop)
	}
	if timeout != "" {
		d, err := time.ParseDuration(timeout)
		if c.Timeout = schema.Duration(d); err != nil || d <= 0 {
			return nil, fmt.Errorf("care: timeout is %q, and must be a duration such as \"90s\" or \"1h30m\"", timeout)
		}
	}
	if err := cmp.Or(c.runsAfter(ev.out.Name, after), c.leaves(leave), c.excuses(excuse)); err != nil {
		return nil, err
	}
	return &careValue{c}, nil
}

// runsAfter reads what a resource of a ward comes after.
func (c *Care) runsAfter(ward string, after *starlark.List) error {
	for i := 0; after != nil && i < after.Len(); i++ {
		switch v := after.Index(i).(type) {
		case *Handle:
			c.After = append(c.After, v.Full())
		case starlark.String:
			a := string(v)
			if w, _ := value.SplitWard(a); w == "" {
				a = value.InWard(ward, a)
			}
			c.After = append(c.After, a)
		default:
			return fmt.Errorf("care: after takes handles and addresses; item %d is %s", i,
				schema.WithArticle(v.Type()))
		}
	}
	return nil
}

// leaves reads the paths that others may change.
func (c *Care) leaves(leave *starlark.List) error {
	for i := 0; leave != nil && i < leave.Len(); i++ {
		s, ok := leave.Index(i).(starlark.String)
		if !ok {
			return fmt.Errorf("care: leave takes attribute paths; item %d is %s", i,
				schema.WithArticle(leave.Index(i).Type()))
		}
		p, err := value.ParsePath(string(s))
		if err != nil || len(p) == 0 {
			return fmt.Errorf("care: leave: %q is not an attribute path", string(s))
		}
		c.Leave = append(c.Leave, p)
	}
	return nil
}

// excuses reads which rules may be broken.
func (c *Care) excuses(excuse *starlark.Dict) error {
	if excuse == nil {
		return nil
	}
	for _, item := range excuse.Items() {
		rule, ok1 := item[0].(starlark.String)
		text, ok2 := item[1].(starlark.String)
		m := excuseForm().FindStringSubmatch(string(text))
		if !ok1 || !ok2 || m == nil {
			return fmt.Errorf("care: excuse must be {\"RULE\": \"reason, until 2026-12-31\"}, not %s: %s",
				item[0], item[1])
		}
		if _, err := time.Parse(time.DateOnly, m[2]); err != nil {
			return fmt.Errorf("care: the excuse for %s ends on %q, which is not a date", rule, m[2])
		}
		if c.Excuse == nil {
			c.Excuse = map[string]problem.Excuse{}
		}
		c.Excuse[string(rule)] = problem.Excuse{Reason: m[1], Until: m[2]}
	}
	return nil
}

var excuseForm = form.Of(`^(\S.*?),? until (\d{4}-\d{2}-\d{2})$`)

// over is the care of something inside what outer holds for.
func (c Care) over(outer Care) Care {
	c.After = append(append([]string(nil), outer.After...), c.After...)
	c.Leave = append(append([]value.Path(nil), outer.Leave...), c.Leave...) // renamed_from is of the outer itself
	c.Guard = c.Guard || outer.Guard
	if c.Swap == "" {
		c.Swap = outer.Swap
	}
	if c.AtDrop == "" {
		c.AtDrop = outer.AtDrop
	}
	if c.Timeout == 0 {
		c.Timeout = outer.Timeout
	}
	if len(outer.Excuse) > 0 {
		all := maps.Clone(outer.Excuse)
		maps.Copy(all, c.Excuse)
		c.Excuse = all
	}
	return c
}
