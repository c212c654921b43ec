package propose

// undoOf says how enacting can take an action back, and what is not as before
// then.
func undoOf(a *Action) string {
	if a.Plan == nil {
		return ""
	}
	switch a.Kind {
	case New:
		if a.Plan.Care.Guard {
			return UndoNone
		}
		return UndoDrop
	case Edit:
		return UndoEdit
	case Release:
		return UndoRecord
	case Adopt:
		return UndoRelease
	case Rename:
		return UndoRename
	case Drop, Swap:
		switch {
		case a.Plan.Seen == nil || a.Plan.Seen.Gone || a.Plan.Seen.ID == "":
			return UndoRecord
		case a.Plan.HoldsData:
			return UndoEmpty
		}
		return UndoMake
	}
	return ""
}

// What enacting can do to take an action back. What is made again gets
// another id.
const (
	UndoDrop    = "drop again"
	UndoEdit    = "edit back"
	UndoMake    = "make again"
	UndoEmpty   = "make again, without its data"
	UndoRecord  = "record again"
	UndoRename  = "rename back"
	UndoRelease = "release again"
	UndoNone    = "none" // it is guarded and stays
)
