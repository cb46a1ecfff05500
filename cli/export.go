package cli

import (
	"errors"
	"os"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"tidycourier/core/exhibit"
	"tidycourier/core/fault"
	"tidycourier/core/journal"
	"tidycourier/core/mask"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/show"
)

// exportFlags say as what a run is written, and where to.
type exportFlags struct {
	har, sh    bool
	caseFile   string
	save, note string
}

func (a *app) journalExport() *cobra.Command {
	var f exportFlags
	cmd := &cobra.Command{
		Use: "export [RUN]", Short: "Write a run for use elsewhere: HAR, shell script or case file",
		Long: `Writes a run, the last one when no number is given, in one of three forms.

--har is HAR 1.2, an entry a leg. --sh is a shell script that sends the requests
again with curl; what was secret is a variable that it asks for. --case FILE is the
case file: one page for the provider's support, with the ladder as a drawing, each
leg, the tokens decoded, the findings, versions and clocks, and your own words
(--note TEXT, or @FILE). It loads nothing from anywhere.

All are masked. --reveal writes a HAR with everything as it was.`,
		Example: `  tidy-courier journal export 3 --har --save run-3.har
  tidy-courier journal export --sh
  tidy-courier journal export 3 --case for-support.html --note "it worked until Monday"`,
		Args: takes(0, 1, "one run's number at most"),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := f.check(a.g.reveal); err != nil {
				return err
			}
			o, err := a.runOf(args)
			if err != nil {
				return err
			}
			path, raw, err := a.exported(o, f)
			if errors.Is(err, journal.ErrOnlyMasked) {
				return fault.New(fault.Usage, "run %d cannot be written so: %s", o.N, err).Hint("--har and --case work without --reveal")
			}
			if err != nil {
				return err
			}
			return a.deliver(path, raw)
		},
	}
	fl := cmd.Flags()
	fl.BoolVar(&f.har, "har", false, "as HAR 1.2")
	fl.BoolVar(&f.sh, "sh", false, "as a shell script")
	fl.StringVar(&f.caseFile, "case", "", "as a case file, into this `file` (- for standard output)")
	fl.StringVar(&f.save, "save", "", "write --har or --sh into this `file`, not to standard output")
	fl.StringVar(&f.note, "note", "", "your own words in the case file: `TEXT` or @FILE")
	return cmd
}

func (f *exportFlags) check(reveal bool) error {
	n := 0
	for _, given := range []bool{f.har, f.sh, f.caseFile != ""} {
		if given {
			n++
		}
	}
	switch {
	case n != 1:
		return fault.New(fault.Usage, "a run is written in one form, and %d are named", n).Hint("give one of --har, --sh and --case FILE")
	case f.caseFile != "" && f.save != "":
		return fault.New(fault.Usage, "--case names its file itself").Hint("leave --save away")
	case f.caseFile == "" && f.note != "":
		return fault.New(fault.Usage, "--note stands in a case file").Hint("give it with --case FILE")
	case reveal && !f.har:
		return fault.New(fault.Usage, "a case file and a script never hold secrets").Hint("leave --reveal away; it goes with --har")
	}
	return nil
}

// exported is the run in its form, and where it is to go; "" is standard output.
func (a *app) exported(o *journal.Opened, f exportFlags) (string, []byte, error) {
	if f.sh {
		r, set, err := o.Run()
		if err != nil {
			return "", nil, err
		}
		return f.save, []byte(exhibit.Script(r, set)), nil
	}
	rec, err := a.recordOf(o)
	if err != nil {
		return "", nil, err
	}
	if f.har {
		var b strings.Builder
		err := show.JSON(&b, exhibit.HAR(rec, Version))
		return f.save, []byte(b.String()), err
	}
	c, err := a.caseOf(o, rec, f.note)
	if err != nil {
		return "", nil, err
	}
	path := f.caseFile
	if path == "-" {
		path = ""
	}
	return path, show.CasePage(c), nil
}

func (a *app) caseOf(o *journal.Opened, rec *run.Record, note string) (*exhibit.Case, error) {
	r, set, err := o.Run()
	if err != nil && !errors.Is(err, journal.ErrOnlyMasked) {
		return nil, err
	}
	c := exhibit.NewCase(rec, r, set)
	c.About = []exhibit.Fact{{Name: "program", Value: "tidy-courier " + Version}, {Name: "built with", Value: runtime.Version()},
		{Name: "system", Value: runtime.GOOS + " " + runtime.GOARCH}, {Name: "clock here", Value: rec.Started.UTC().Format("2006-01-02 15:04:05 UTC") + " when the run began"},
		{Name: "written", Value: a.Now().UTC().Format("2006-01-02 15:04:05 UTC")}}
	if path, isFile := strings.CutPrefix(note, "@"); isFile {
		raw, err := os.ReadFile(a.path(path))
		if err != nil {
			return nil, fault.Wrap(fault.Usage, err, "the note cannot be read").At("--note")
		}
		note = string(raw)
	}
	c.Words = set.Replace(mask.Loose(note)) // people paste more than they mean to
	return c, nil
}

func (a *app) deliver(path string, raw []byte) error {
	if path == "" {
		_, err := a.Out.Write(raw)
		return err
	}
	if err := project.WriteFile(a.path(path), raw, 0o600); err != nil {
		return fault.Wrap(fault.Usage, err, "the file could not be written").At(path)
	}
	a.doc = map[string]any{"file": path, "bytes": len(raw)}
	a.say("    written to %s, %s", path, show.Bytes(int64(len(raw))))
	return nil
}
