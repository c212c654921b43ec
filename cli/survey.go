package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"time"

	"kasbah/core/disk"
	"kasbah/core/problem"
	"kasbah/core/survey"
	"kasbah/exit"
	"kasbah/flags"
	"kasbah/render"
	"kasbah/terminal"
)

// surveyFlags are those of survey.
type surveyFlags struct {
	survey.Asked
	strangers      flags.OrBool
	since          time.Duration
	record         bool
	full, exitCode bool
	form, file     string
}

func surveyCommand() *command {
	f := surveyFlags{strangers: flags.OrBool{Words: []string{"used", "all"}}, form: "text"}
	var run enactFlags
	return &command{
		Name: "survey", Several: true, Short: "find drift: compare what is recorded with what is live", Args: "[WARD…]", Estate: true,
		Long: "Reads what is live and reports what differs from the ledger, with who and when if the cloud " +
			"knows. A ward or driver that fails hides nothing of the others. It changes nothing, in the cloud or " +
			"in the code; `kasbah settle` does.",
		Examples: [2]string{"kasbah survey -env live", "kasbah survey shore -since 24h -exit-code -form junit -o drift.xml"},
		Flags: func(fs *flag.FlagSet) {
			fs.Var((*flags.List)(&f.Only), "only", "only addresses that match this `pattern`; repeatable")
			fs.DurationVar(&f.since, "since", 0, "only what change feeds name within this `time`, such as 24h")
			fs.Var(&f.strangers, "strangers", "list what is live and recorded nowhere in the estate, of types that it "+
				"uses; -strangers=all for every type")
			fs.BoolVar(&f.record, "record", false, "write what was seen into the ledger, and what was found among the alerts; what is expected does not change")
			f.register(fs, &run)
			fs.BoolVar(&f.full, "full", false, "list every resource, also what matches and equal findings")
			fs.BoolVar(&f.exitCode, "exit-code", false, "end with 3 when something drifted, with 1 when nothing did "+
				"and something was not checked")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			f.form = a.formOr(f.form)
			if f.since < 0 {
				return problem.Usage("-since is a time, such as 24h")
			}
			return a.survey(ctx, f, run, args)
		},
	}
}

func (f *surveyFlags) register(fs *flag.FlagSet, run *enactFlags) {
	fs.Var(flags.Choice(&f.form, "text", "json", "markdown", "sarif", "junit", "html"), "form", "the `form`: text, json, markdown, sarif, junit or html")
	fs.StringVar(&f.file, "o", "", "write the result into this `file`")
	fs.StringVar(&run.reason, "why", "", "with -record: the `reason`, for the ledger")
	run.registerWait(fs)
}

func (a *app) survey(ctx context.Context, f surveyFlags, run enactFlags, wards []string) error {
	if err := cmp.Or(when(f.file != "", a.one("-o")), when(f.form != "text" && f.form != "json" && f.form != "markdown",
		a.one("-form "+f.form))); err != nil {
		return err
	}
	c := a.config(a.env, wards)
	c.Lenient, c.Unpinned = true, true
	s, err := a.openWith(ctx, c)
	if err != nil {
		return err
	}
	r := f.Asked
	r.Strangers, r.Checked = f.strangers.Word, f.form == "json"
	if f.form == "text" && !f.full {
		r.Located = render.Alike
	}
	if f.since > 0 {
		r.Since = time.Now().Add(-f.since)
	}
	report, err := s.Survey(ctx, r)
	if err != nil {
		return err
	}
	o := render.SurveyOptions{Estate: s.Estate.Name, Program: version(), Full: f.full}
	if f.form == "html" {
		if o.Chart, err = s.SurveyChart(ctx, report); err != nil {
			return err
		}
	}
	if err := a.writeSurvey(report, o, f); err != nil {
		return err
	}
	if f.record {
		n, err := s.Record(ctx, report, r, s.EnactOptions(ctx, run.run(a)))
		if err != nil {
			return err
		}
		a.say("What is live was noted in the records of %s.", render.Count(n, "resource"))
	}
	switch {
	case report.Judged.Blocks():
		return exit.Error(exit.Refused)
	case report.StepsBlock():
		return exit.Error(exit.Failed)
	case len(report.Failures) > 0 && !(f.exitCode && report.Counts.Drifted()):
		return exit.Error(exit.Failed)
	case f.exitCode && report.Counts.Drifted():
		return exit.ErrDifferent
	case f.exitCode && report.Failed():
		return exit.Error(exit.Failed)
	}
	return nil
}

// writeSurvey writes a report in its form, to a file or to standard output.
func (a *app) writeSurvey(r *survey.Report, o render.SurveyOptions, f surveyFlags) error {
	switch {
	case f.file == "" && f.form == "json":
		return a.document(r)
	case f.file == "" && f.form == "text":
		a.out().Survey(r, f.full)
		return nil
	}
	body, err := render.SurveyAs(f.form, r, o)
	if err != nil {
		return err
	}
	if f.file == "" {
		_, err = terminal.JSON{To: a.buffer}.Write(body)
		return err
	}
	if err := disk.Replace(a.path(f.file), body, 0o644); err != nil {
		return fmt.Errorf("the survey could not be written: %w", err)
	}
	a.say("Wrote %s.", f.file)
	return nil
}
