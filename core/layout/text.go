package layout

// Sizes of texts, in pixels.
const (
	labelSize = 13.0
	noteSize  = 11.0
	inset     = 10.0  // on both sides of a text in its box
	narrowest = 90.0  // of a node, so that its label can be read from farther away
	widest    = 260.0 // of a node; a longer label is cut where it is drawn
)

// nodeWidth is how wide a node is, so that its texts have room.
func nodeWidth(n *Node) float64 {
	return min(widest, max(narrowest, TextWidth(n.Label, labelSize)+2*inset, TextWidth(n.Note, noteSize)+2*inset))
}

// TextWidth is how wide a text is at most, in pixels, in a font without serifs, whichever of the usual ones it is.
func TextWidth(s string, size float64) (width float64) {
	for _, r := range s {
		width += runeWidth(r)
	}
	return width * size
}

// BoldWidth is TextWidth of a bold text.
func BoldWidth(s string, size float64) float64 { return 1.2 * TextWidth(s, size) }

// FitBold is Fit of a bold text.
func FitBold(s string, size, width float64) string { return Fit(s, size, width/1.2) }

// runeWidth is the width of a letter as a share of its size: of the widest of the usual fonts, which is DejaVu Sans.
func runeWidth(r rune) float64 {
	switch {
	case r >= 0x1100: // a letter of East Asia, or a picture
		return 1.05
	case r == 'W' || r == 'm' || r == 'M' || r == 'w' || r == '@' || r == '%':
		return 0.99
	case r >= 'A' && r <= 'Z':
		return 0.79
	case r == 'i' || r == 'l' || r == 'j' || r == '.' || r == ',' || r == ':' || r == '\'' || r == '|' || r == ' ':
		return 0.36
	case r == 'f' || r == 't' || r == 'r' || r == '(' || r == ')' || r == '[' || r == ']' || r == '-' || r == '/':
		return 0.42
	case r > 0x7f:
		return 0.85
	}
	return 0.65
}

// Fit is a text that is not wider than some pixels: cut, with … at its end, where it has to be.
func Fit(s string, size, width float64) string {
	if TextWidth(s, size) <= width+1e-6 {
		return s
	}
	room := width - TextWidth("…", size)
	for i, r := range s {
		if room -= runeWidth(r) * size; room < 0 {
			return s[:i] + "…"
		}
	}
	return s
}
