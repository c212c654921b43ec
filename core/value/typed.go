package value

import (
	"github.com/BurntSushi/toml"
)

// Typed reads a value as somebody typed it: as TOML, or as bare text.
func Typed(text string) any {
	var doc map[string]any
	if err := toml.Unmarshal([]byte("v = "+text), &doc); err != nil {
		return text
	}
	v, err := Normal(doc["v"])
	if err != nil {
		return text
	}
	return v
}
