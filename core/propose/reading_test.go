package propose

import (
	"context"
	"fmt"
	"iter"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/ledger"
)

// slowList is a driver whose list takes a second for each thing.
type slowList struct {
	driver.Driver
	things int
}

func (s slowList) List(context.Context, string) iter.Seq2[driver.Live, error] {
	return func(yield func(driver.Live, error) bool) {
		for i := range s.things {
			time.Sleep(time.Second)
			if !yield(driver.Live{ID: fmt.Sprint(i)}, nil) {
				return
			}
		}
	}
}

func (s slowList) Read(context.Context, string, string) (driver.Live, error) {
	return driver.Live{}, driver.ErrGone
}

// TestReadingIsTold: of a list that takes long it is told how far it is; of others nothing is.
func TestReadingIsTold(t *testing.T) {
	for _, c := range []struct {
		things int
		told   []string
	}{{4, nil}, {12, []string{"slow.buoy 4", "slow.buoy 9"}}} {
		synctest.Test(t, func(t *testing.T) {
			var mu sync.Mutex
			var told []string
			ctx := TellReading(t.Context(), func(typ string, things int) {
				mu.Lock()
				defer mu.Unlock()
				told = append(told, fmt.Sprintf("%s %d", typ, things))
			})
			st := &ledger.Stored{Address: "slow.buoy/a", Type: "slow.buoy", ID: "0", Whole: true}
			drivers := map[string]driver.Driver{"slow": slowList{things: c.things}}
			live, err := ReadLive(ctx, drivers, nil,
				map[string]*ledger.State{"shore": {Records: map[string]*ledger.Stored{st.Address: st}}}, nil)
			require.NoError(t, err)
			require.Contains(t, live["slow.buoy"], "0")
			mu.Lock()
			defer mu.Unlock()
			require.Equal(t, len(c.told), len(told), told)
			for i := range told { // what comes at the same moment may be counted or not
				require.Contains(t, []string{c.told[i], fmt.Sprintf("slow.buoy %d", 5*(i+1))}, told[i])
			}
		})
	}
}
