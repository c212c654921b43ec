package memory_test

import (
	"testing"

	"kasbah/core/store"
	"kasbah/stores/memory"
	"kasbah/stores/storetest"
)

func TestConformance(t *testing.T) {
	storetest.Run(t, func(*testing.T) func() store.Store {
		s := memory.New()
		return func() store.Store { return s }
	})
}
