package dialogue

import (
	"cmp"
	"context"
	"fmt"

	"kasbah/demo"
)

// Choose checks what a new estate is to hold, and asks for what is not given where it may ask.
func (t Terminal) Choose(ctx context.Context, c *demo.Choices, name string, ask bool) error {
	for _, q := range c.Questions(name) {
		for {
			if ask {
				var err error
				question := fmt.Sprintf("%s [%s]:", q.Text, cmp.Or(q.Otherwise, "none"))
				if *q.Answer, err = t.Person.Ask(ctx, question); err != nil {
					return err
				}
			}
			err := q.Complete()
			if err == nil {
				break
			}
			if !ask {
				return err
			}
			t.Say("    %v", err)
		}
	}
	return nil
}
