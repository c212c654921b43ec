package schema

// Offer is what the description of an API offers to a driver, in words.
type Offer struct {
	Title   string        `json:"title"`
	Version string        `json:"version"`
	Types   []OfferedType `json:"types"`
}

// OfferedType is a type that is described, or a collection that could be one.
type OfferedType struct {
	Name      string   `json:"name"`
	Component string   `json:"component,omitempty"` // of a collection that could be one
	Path      string   `json:"path"`
	Described bool     `json:"described"`
	Certain   bool     `json:"certain"` // of one that is not: it can be a type as it is drafted
	Offers    []string `json:"offers"`  // what can be done with it
	Lacks     []string `json:"lacks"`   // what is missing, and what that means
}
