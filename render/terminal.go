package render

import (
	"io"
	"os"
	"strconv"

	"github.com/muesli/termenv"
	"golang.org/x/term"
)

// Terminal is the width and colours of a stream, with colours auto, always or never. One that is not a terminal has none, and as
// many columns as COLUMNS says, or 100.
func Terminal(w io.Writer, colours string) (int, termenv.Profile) {
	width, profile := 100, termenv.Ascii
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil {
		width = max(30, min(n, 500))
	}
	f, ok := w.(*os.File)
	if ok && term.IsTerminal(int(f.Fd())) {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n > 0 {
			width = max(30, min(n, 100))
		}
		if colours == "auto" && os.Getenv("NO_COLOR") == "" {
			profile = termenv.NewOutput(f).EnvColorProfile()
		}
	}
	if colours == "always" {
		profile = termenv.TrueColor
	}
	return width, profile
}
