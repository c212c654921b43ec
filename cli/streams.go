package cli

import (
	"bytes"
	"fmt"
	"io"
	"strings"

	jsonv2 "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	json "github.com/go-json-experiment/json/v1"
	"github.com/muesli/termenv"

	"kasbah/core/problem"
	"kasbah/render"
	"kasbah/terminal"
)

// streams are where a run of the program reads and writes. Results wait for Flush, messages
// do not.
type streams struct {
	stdin          io.Reader
	stdout, stderr io.Writer
	buffer         *terminal.Stream // of results
	errors         *terminal.Stream // of messages
	wrote          bool             // a JSON document, or a line of JSON
	unshown        bytes.Buffer     // texts for people, which -json leaves out

	outWidth, errWidth     int
	outProfile, errProfile termenv.Profile
	fixedOutput            bool // widths and colours are set and stay
}

func newStreams(in io.Reader, out, errOut io.Writer) streams {
	s := streams{
		stdin: in, stdout: out, stderr: errOut, outWidth: 100, errWidth: 100, outProfile: termenv.Ascii,
		errProfile: termenv.Ascii,
	}
	s.buffer, s.errors = terminal.Pair(out, errOut)
	return s
}

// maxWho is more than the name of any person or program takes.
const maxWho = 200

// prepareOutput finds widths and colours.
func (a *app) prepareOutput() error {
	switch a.colour {
	case "auto", "always", "never":
	default:
		return problem.Usage("-colour is %q, and must be auto, always or never", a.colour)
	}
	if who := a.acting(); who != render.Clean(who) || len(who) > maxWho {
		return problem.Usage("KASBAH_WHO is %q: who acts is at most %d bytes, without characters that cannot be seen",
			who, maxWho)
	}
	if a.fixedOutput {
		return nil
	}
	a.outWidth, a.outProfile = render.Terminal(a.stdout, a.colour)
	a.errWidth, a.errProfile = render.Terminal(a.stderr, a.colour)
	return nil
}

// out is where results for people go. With -json nothing but JSON reaches standard output.
func (a *app) out() *render.Out {
	if a.json {
		return render.NewOut(&a.unshown, a.outWidth, termenv.Ascii)
	}
	return render.NewOut(a.buffer, a.outWidth, a.outProfile)
}

func (a *app) errs() *render.Out { return render.NewOut(a.errors, a.errWidth, a.errProfile) }

// say writes a message to people, unless they want none.
func (a *app) say(format string, args ...any) {
	if a.quiet {
		return
	}
	_ = a.flush() // results come before what is said about them; a failure to write them shows at the end
	said, out := fmt.Sprintf(format, args...), a.errs()
	if !strings.Contains(said, "\n") {
		said = render.Wrap(said, out.Width, "  ")
	}
	out.Printf("%s\n", said)
}

func (a *app) flush() error { return a.buffer.Flush() }

// document writes a result as JSON, as encoding/json does, and piece by piece where it is large.
func (a *app) document(v any) error {
	a.wrote = true
	if a.envs != nil {
		a.envs[len(a.envs)-1].Result = v
		return nil
	}
	to, form := terminal.JSON{To: a.buffer}, []jsonv2.Options{json.DefaultOptionsV1(), jsontext.EscapeForHTML(false)}
	if a.cmd == nil || !a.cmd.Lines {
		form = append(form, jsontext.WithIndent("  "))
	}
	if err := jsonv2.MarshalWrite(to, v, form...); err != nil {
		return err
	}
	_, err := io.WriteString(to, "\n")
	return err
}

// show writes a result: as JSON, or drawn for people.
func show[D any](a *app, doc D, draw func(*render.Out, D)) error {
	if a.json {
		return a.document(doc)
	}
	draw(a.out(), doc)
	return nil
}

// showSoFar shows what was done before an error, to people, and returns the error.
func showSoFar[D any](a *app, doc D, draw func(*render.Out, D), err error) error {
	if err == nil {
		return show(a, doc, draw)
	}
	if !a.json {
		draw(a.out(), doc)
	}
	return err
}

// sarif writes problems in that form.
func (a *app) sarif(list problem.List) error {
	a.wrote = true
	body, err := render.SARIF(list, version())
	if err == nil {
		_, err = terminal.JSON{To: a.buffer}.Write(body)
	}
	return err
}
