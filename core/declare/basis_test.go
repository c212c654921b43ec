package declare_test

import (
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/estate"
)

// TestBasisKnowsEveryOption: an evaluation is made from Options, and its basis must
// not leave one of them out. Whoever adds a field decides here where it belongs.
func TestBasisKnowsEveryOption(t *testing.T) {
	digested := []string{"Estate", "Env", "Wards", "Catalogs", "Kinds", "Kits", "Inputs"}
	// what other wards publish is held against their ledgers; an overrun is an end
	// and nothing that is evaluated with other texts is remembered
	elsewhere := []string{"Published", "Overrun", "Overlay"}
	beside := []string{"Bindings", "Again", "along", "Memory"} // questions beside, which change nothing that is declared
	var fields []string
	for i, of := 0, reflect.TypeFor[declare.Options](); i < of.NumField(); i++ {
		fields = append(fields, of.Field(i).Name)
	}
	require.ElementsMatch(t, slices.Concat(digested, elsewhere, beside), fields)

	var ofInput []string
	for i, of := 0, reflect.TypeFor[estate.Input](); i < of.NumField(); i++ {
		ofInput = append(ofInput, of.Field(i).Name)
	}
	where := []string{"Position", "At"} // where it was given changes no declaration
	require.ElementsMatch(t, append([]string{"Ward", "Name", "Value", "Raw", "IsRaw", "Source"}, where...), ofInput)
}
