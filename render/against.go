package render

import (
	"fmt"

	"kasbah/core/propose"
)

// Against writes what a proposal would do otherwise than the one that was reviewed.
func (o *Out) Against(d *propose.Against) {
	if len(d.Differences) == 0 {
		o.Printf("Nothing is different in what would be done.\n")
		return
	}
	last := "\x00"
	for _, x := range d.Differences {
		head := x.Ward
		if x.Address != "" {
			head += ":" + x.Address
		}
		if head != last && head != "" {
			o.Printf("%s\n", o.Bold(Clean(head)))
		}
		indent := "  "
		if last = head; head == "" {
			indent = ""
		}
		o.Printf("%s%s\n", indent, Wrap(differenceWords(x), o.Width-2, indent+"  "))
	}
	o.Printf("%s in what would be done.\n", are(len(d.Differences), "thing")+" different")
}

// differenceWords is one difference as people read it.
func differenceWords(x propose.Difference) string {
	old, is := shownIn(x.Ward, x.Old.V, x.Secret), shownIn(x.Ward, x.New.V, x.Secret)
	path := Clean(x.Path)
	switch {
	case x.What == "action" && x.Old.V == nil:
		return fmt.Sprintf("%s now; the reviewed proposal does not know it", is)
	case x.What == "action" && x.New.V == nil:
		return fmt.Sprintf("was %s in the reviewed proposal, and this one does not know it", old)
	case x.What == "action":
		return fmt.Sprintf("%s now; the reviewed proposal had %s", is, old)
	case x.What == "ward" && x.New.V == true:
		return "the reviewed proposal does not hold this ward"
	case x.What == "ward":
		return "the reviewed proposal holds this ward, and this one does not"
	case x.Secret:
		return path + ": another secret"
	case x.What == "will_be" && x.New.V == nil:
		return fmt.Sprintf("%s: would not change now; in the reviewed proposal it would be %s", path, old)
	case x.What == "will_be" && x.Old.V == nil:
		return fmt.Sprintf("%s: would be %s; in the reviewed proposal it would not change", path, is)
	case x.What == "will_be":
		return fmt.Sprintf("%s: would be %s; in the reviewed proposal %s", path, is, old)
	case x.What == "live":
		return fmt.Sprintf("%s: is %s live; it was %s at the review", path, is, old)
	case x.What == "published":
		return fmt.Sprintf("publishes %s = %s; in the reviewed proposal %s", path, is, old)
	case x.Old.V == nil && x.Ward == "":
		return fmt.Sprintf("%s now, and not in the reviewed proposal: %s", Clean(x.What), is)
	case x.New.V == nil && x.Ward == "":
		return fmt.Sprintf("%s in the reviewed proposal, and not now: %s", Clean(x.What), old)
	}
	return fmt.Sprintf("%s: %s; in the reviewed proposal %s", Clean(x.What), is, old)
}
