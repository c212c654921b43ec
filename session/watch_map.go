package session

import (
	"context"
	"time"

	"kasbah/core/chart"
)

// mapAge is how long the drawing of a ward is shown before its files are read again.
const mapAge = time.Minute

// maps draws wards as the estate's files declare them, one at a time.
func (at *watched) maps() func(ctx context.Context, ward string) (*chart.Drawing, error) {
	type made struct {
		drawing *chart.Drawing
		at      time.Time
	}
	c := at.config
	drawn := map[string]made{}
	turn := make(chan struct{}, 1)
	return func(ctx context.Context, ward string) (*chart.Drawing, error) {
		select {
		case turn <- struct{}{}:
			defer func() { <-turn }()
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		for name, d := range drawn {
			if time.Since(d.at) > mapAge {
				delete(drawn, name)
			}
		}
		if d, is := drawn[ward]; is {
			return d.drawing, nil
		}
		d, err := drawWard(ctx, c, ward)
		if err == nil {
			drawn[ward] = made{d, time.Now()}
		}
		return d, err
	}
}

// drawWard draws one ward, as it is declared.
func drawWard(ctx context.Context, c Config, ward string) (d *chart.Drawing, err error) {
	err = inWard(ctx, c, ward, func(s *Session) error {
		drawn, _, err := s.Chart(ctx, Charting{At: chart.Declared, Around: true})
		if err == nil {
			d = drawn.Draw()
		}
		return err
	})
	return d, err
}
