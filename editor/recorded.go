package editor

import (
	"context"
	"sync"
	"time"

	"kasbah/core/alert"
	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/why"
)

// recorded are the ledgers of a view, read again after a while.
type recorded struct{ ledgers *ledgers }

type ledgers struct {
	mu     sync.Mutex
	states map[string]*ledger.State
	at     map[string]time.Time
	alerts []*alert.Alert
	seen   time.Time
}

// Ledgers are read again after so long; reading one takes no longer than patience.
const (
	fresh    = 10 * time.Second
	patience = 2 * time.Second
)

// state is what the ledger of a ward says. It reads no cloud.
func (v *view) state(ctx context.Context, ward string) (*ledger.State, error) {
	l := v.ledgers
	l.mu.Lock()
	defer l.mu.Unlock()
	if s := l.states[ward]; s != nil && time.Since(l.at[ward]) < fresh {
		return s, nil
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	s, err := v.session.Ledgers[ward].Load(ctx)
	if err == nil {
		l.states[ward], l.at[ward] = s, time.Now()
	}
	return s, err
}

// record is what is recorded of a resource, and the run that changed it last; nil for one that is not.
func (v *view) record(ctx context.Context, r *declare.Resource) (*ledger.Record, *ledger.RunSummary, error) {
	s, err := v.state(ctx, r.Ward)
	if err != nil || s.Records[r.Address] == nil {
		return nil, nil, err
	}
	rec, err := s.Records[r.Address].Record()
	if err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	run, err := v.session.LastChange(ctx, why.Place{Ward: r.Ward, Address: r.Address}, s)
	return rec, run, err
}

// drifted are the open alerts of a resource: what the last survey found different.
func (v *view) drifted(ctx context.Context, ward, address string) []*alert.Alert {
	l := v.ledgers
	l.mu.Lock()
	defer l.mu.Unlock()
	if time.Since(l.seen) >= fresh {
		ctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		list, err := v.session.Alerts(ctx, false)
		if err != nil {
			return nil // without a journal nothing is known of surveys
		}
		l.alerts, l.seen = list.Alerts, time.Now()
	}
	var out []*alert.Alert
	for _, a := range l.alerts {
		if a.Finding.Ward == ward && a.Finding.Address == address {
			out = append(out, a)
		}
	}
	return out
}

// recordedOnly are the addresses that the ledger of a ward records and nothing declares.
func (v *view) recordedOnly(ward string) []string {
	s, err := v.state(context.Background(), ward)
	if err != nil {
		return nil
	}
	declared := map[string]bool{}
	for _, r := range v.resources(ward) {
		declared[r.Address] = true
	}
	var out []string
	for _, address := range s.Addresses() {
		if !declared[address] {
			out = append(out, address)
		}
	}
	return out
}
