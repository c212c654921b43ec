package value

// Empty reports whether v says nothing: none, an empty list or an empty map. Clouds differ in
// which of them they show.
func Empty(v any) bool {
	switch v := v.(type) {
	case nil:
		return true
	case []any:
		return len(v) == 0
	case map[string]any:
		return len(v) == 0
	}
	return false
}

// Rebuild is a list or map with f of each of its items in their place, and anything else as it
// is. It is not ok as soon as f is not.
func Rebuild(v any, f func(any) (any, bool)) (any, bool) {
	switch v := v.(type) {
	case []any:
		out := make([]any, len(v))
		for i, x := range v {
			is, ok := f(x)
			if !ok {
				return nil, false
			}
			out[i] = is
		}
		return out, true
	case map[string]any:
		out := make(Map, len(v))
		for k, x := range v {
			is, ok := f(x)
			if !ok {
				return nil, false
			}
			out[k] = is
		}
		return out, true
	}
	return v, true
}
