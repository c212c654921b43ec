package memory_test

import (
	"testing"

	"kasbah/store"
	"kasbah/store/memory"
	"kasbah/store/storetest"
)

func TestConformance(t *testing.T) {
	storetest.Run(t, func(*testing.T) func() store.Store {
		s := memory.New()
		return func() store.Store { return s }
	})
}
