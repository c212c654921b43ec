package declare

import (
	"errors"
	"fmt"

	"go.starlark.net/starlark"

	"kasbah/core/value"
)

// careValue is what care(…) returns.
type careValue struct{ care Care }

func (c *careValue) String() string        { return "care(…)" }
func (c *careValue) Type() string          { return "care" }
func (c *careValue) Freeze()               {}
func (c *careValue) Truth() starlark.Bool  { return true }
func (c *careValue) Hash() (uint32, error) { return 0, errors.New("a care cannot be a key") }

// notYet are parts of care that this version reads and cannot serve.
var notYet = []string{"at_drop", "renamed_from", "timeout", "excuse"}

func (ev *evaluator) care(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
	var after, leave *starlark.List
	var guard bool
	var swap string
	for _, kv := range kwargs {
		for _, n := range notYet {
			if string(kv[0].(starlark.String)) == n {
				return nil, fmt.Errorf("this version of kasbah does not do care(%s = …) yet", n)
			}
		}
	}
	if err := starlark.UnpackArgs("care", args, kwargs, "after?", &after, "guard?", &guard, "leave?", &leave, "swap?", &swap); err != nil {
		return nil, err
	}
	c := Care{Guard: guard, Swap: swap}
	if swap != "" && swap != "create-first" && swap != "drop-first" {
		return nil, fmt.Errorf("care: swap is %q, and must be \"create-first\" or \"drop-first\"", swap)
	}
	for i := 0; after != nil && i < after.Len(); i++ {
		switch v := after.Index(i).(type) {
		case *Handle:
			c.After = append(c.After, v.Full())
		case starlark.String:
			a := string(v)
			if w, _ := value.SplitWard(a); w == "" {
				a = value.InWard(ev.out.Name, a)
			}
			c.After = append(c.After, a)
		default:
			return nil, fmt.Errorf("care: after wants handles or addresses, and item %d is a %s", i, v.Type())
		}
	}
	for i := 0; leave != nil && i < leave.Len(); i++ {
		s, ok := leave.Index(i).(starlark.String)
		if !ok {
			return nil, fmt.Errorf("care: leave wants attribute paths, and item %d is a %s", i, leave.Index(i).Type())
		}
		p, err := value.ParsePath(string(s))
		if err != nil || len(p) == 0 {
			return nil, fmt.Errorf("care: leave: %q is no attribute path", string(s))
		}
		c.Leave = append(c.Leave, p)
	}
	return &careValue{c}, nil
}
