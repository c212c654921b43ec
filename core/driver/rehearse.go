package driver

import (
	"kasbah/core/value"
)

// Written is a value of a Call as it is sent to others: {"$call": 2, "path": "/id"} stands for what an earlier
// call makes, and {"$text": [...]} for a text that holds such.
func Written(v any) any {
	switch v := v.(type) {
	case Made:
		return value.Map{"$call": int64(v.Call), "path": v.Path.Pointer()}
	case Joined:
		out := make([]any, len(v))
		for i, x := range v {
			out[i] = Written(x)
		}
		return value.Map{"$text": out}
	}
	out, _ := value.Rebuild(v, func(x any) (any, bool) { return Written(x), true })
	return out
}
