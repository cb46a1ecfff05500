package show

import (
	"encoding/xml"
	"fmt"
	"strings"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/mask"
	"tidycourier/core/round"
	"tidycourier/core/run"
)

// RoundView is the --json document of round, and its JSON report.
type RoundView struct {
	Round   string       `json:"round"`
	Stage   string       `json:"stage,omitempty"`
	Passed  int          `json:"passed"`
	Failed  int          `json:"failed"`
	Skipped int          `json:"skipped"`
	Stopped bool         `json:"stopped"`
	Started time.Time    `json:"started"`
	Ms      float64      `json:"ms"`
	Times   RoundTimes   `json:"times"`
	Calls   []RoundCall  `json:"calls"`
	Error   *run.Failure `json:"error,omitempty"`
}

// RoundTimes are milliseconds.
type RoundTimes struct {
	Min    float64 `json:"min"`
	Median float64 `json:"median"`
	P95    float64 `json:"p95"`
	Max    float64 `json:"max"`
}

// RoundCall is one call of a round.
type RoundCall struct {
	Name     string          `json:"name"`
	Phase    string          `json:"phase"`
	Status   int             `json:"status"`
	Ms       float64         `json:"ms"`
	Outcome  string          `json:"outcome"`
	Reason   string          `json:"reason,omitempty"`
	Attempts int             `json:"attempts"`
	Failures []flow.Mismatch `json:"failures"`
	Findings []run.Finding   `json:"findings,omitempty"`
	Run      int64           `json:"run"`
	Started  time.Time       `json:"started"`

	kind fault.Kind
}

func millis(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// NewRoundView makes the document of a round. It waits until the journal has the
// runs, so that their numbers are known; known values are masked.
func NewRoundView(r *round.Report, stage string, set *mask.Set) RoundView {
	t := r.Times()
	v := RoundView{Round: r.Round, Stage: stage, Passed: r.Passed, Failed: r.Failed, Skipped: r.Skipped, Stopped: r.Stopped, Started: r.Started.UTC().Truncate(time.Millisecond),
		Ms: millis(r.Took), Times: RoundTimes{millis(t.Min), millis(t.Median), millis(t.P95), millis(t.Max)}, Calls: make([]RoundCall, 0, r.Results.Len())}
	for _, x := range r.Results.All() {
		c := RoundCall{Name: x.Name, Phase: string(x.Phase), Status: x.Status, Ms: millis(x.Took), Outcome: x.Outcome, Reason: set.Replace(x.Reason), Attempts: x.Attempts,
			Failures: MaskFailures(x.Failures, set), Findings: x.Findings, Started: x.Started.UTC().Truncate(time.Millisecond)}
		if x.Err != nil {
			c.kind = x.Err.Kind
		}
		if x.Run != nil {
			c.Run = x.Run()
		}
		v.Calls = append(v.Calls, c)
	}
	return v
}

// MaskFailures masks known values in what failures quote.
func MaskFailures(list []flow.Mismatch, set *mask.Set) []flow.Mismatch {
	out := make([]flow.Mismatch, 0, len(list))
	for _, f := range list {
		f.Expected, f.Actual = set.Replace(f.Expected), set.Replace(mask.Loose(f.Actual))
		out = append(out, f)
	}
	return out
}

// RoundLine draws one call of a round as it is done.
func (p *Pen) RoundLine(x round.Result, set *mask.Set, name int) {
	mark := map[string]string{round.Passed: p.accent(shapeGood), round.Failed: p.red(shapeBad), round.Skipped: p.faint(shapeNote)}[x.Outcome]
	status, time := "", ""
	if x.Status > 0 {
		status, time = fmt.Sprint(x.Status), took(millis(x.Took))
	}
	note := ""
	switch {
	case x.Outcome == round.Skipped:
		note = p.faint("skipped: " + Safe(x.Reason))
	case x.Phase != round.Main:
		note = p.faint(string(x.Phase))
	}
	if x.Attempts > 1 {
		note = strings.TrimSpace(note + " " + p.faint(fmt.Sprintf("%d attempts", x.Attempts)))
	}
	p.line(" ", mark, "  ", pad(Safe(x.Name), name), "  ", pad(status, 3), "  ", strings.Repeat(" ", max(0, 8-width(time))), p.faint(time), "   ", note)
	if x.Outcome != round.Failed {
		return
	}
	if len(x.Failures) > 0 {
		p.Mismatches(MaskFailures(x.Failures, set))
	} else {
		for _, l := range p.fold(Safe(set.Replace(x.Reason)), p.width()-6) {
			p.line(findingIndent, l)
		}
	}
	p.Findings(x.Findings)
}

// Mismatches draws expected above actual, and where it was expected.
func (p *Pen) Mismatches(list []flow.Mismatch) {
	for _, f := range list {
		p.line(findingIndent, p.strong(Safe(f.What)), "   ", p.faint(Safe(f.Where)))
		for i, l := range wrapValue(Safe(f.Expected), p.width()-18) {
			p.line(findingIndent, "  ", p.faint(pad(map[bool]string{true: "expected"}[i == 0], 8)), "  ", l)
		}
		for i, l := range wrapValue(Safe(f.Actual), p.width()-18) {
			p.line(findingIndent, "  ", p.faint(pad(map[bool]string{true: "actual"}[i == 0], 8)), "  ", l)
		}
	}
}

// RoundSummary draws the counts and times of a round.
func (p *Pen) RoundSummary(r *round.Report) {
	p.line()
	counts := fmt.Sprintf("%d calls: %d passed", r.Results.Len(), r.Passed)
	mark := p.accent(shapeGood)
	if r.Failed > 0 {
		counts += ", " + p.red(fmt.Sprintf("%d failed", r.Failed))
		mark = p.red(shapeBad)
	}
	if r.Skipped > 0 {
		counts += fmt.Sprintf(", %d skipped", r.Skipped)
	}
	if r.Stopped {
		counts += ", stopped"
		mark = p.amber(shapeSoon)
	}
	t := r.Times()
	p.line(" ", mark, "  ", p.strong(Safe(r.Round)), "   ", counts, " in ", took(millis(r.Took)))
	if t.Max > 0 {
		p.line("    ", p.faint(fmt.Sprintf("min %s   median %s   p95 %s   max %s", took(millis(t.Min)), took(millis(t.Median)), took(millis(t.P95)), took(millis(t.Max)))))
	}
}

// JUnit's elements, as CI systems read them.
type (
	junitSuites struct {
		XMLName xml.Name   `xml:"testsuites"`
		Suite   junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name      string      `xml:"name,attr"`
		Tests     int         `xml:"tests,attr"`
		Failures  int         `xml:"failures,attr"`
		Errors    int         `xml:"errors,attr"`
		Skipped   int         `xml:"skipped,attr"`
		Time      string      `xml:"time,attr"`
		Timestamp string      `xml:"timestamp,attr"`
		Cases     []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Name    string        `xml:"name,attr"`
		Class   string        `xml:"classname,attr"`
		Time    string        `xml:"time,attr"`
		Failure *junitProblem `xml:"failure"`
		Error   *junitProblem `xml:"error"`
		Skipped *junitProblem `xml:"skipped"`
		Out     string        `xml:"system-out,omitempty"`
	}
	junitProblem struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr,omitempty"`
		Text    string `xml:",chardata"`
	}
)

// JUnit makes the report that CI systems read: a suite a round, a case a call. A
// call that the API answered otherwise than expected is a failure; one that
// could not be made is an error.
func JUnit(v RoundView) ([]byte, error) {
	seconds := func(ms float64) string { return fmt.Sprintf("%.3f", ms/1000) }
	suite := junitSuite{Name: v.Round, Tests: len(v.Calls), Skipped: v.Skipped, Time: seconds(v.Ms), Timestamp: v.Started.Format("2006-01-02T15:04:05")}
	for _, c := range v.Calls {
		j := junitCase{Name: c.Name, Class: v.Round + "." + c.Phase, Time: seconds(c.Ms)}
		if c.Run > 0 {
			j.Out = fmt.Sprintf("run %d: tidy-courier journal show %d", c.Run, c.Run)
		}
		switch c.Outcome {
		case round.Skipped:
			j.Skipped = &junitProblem{Message: clean(c.Reason)}
		case round.Failed:
			problem := &junitProblem{Message: clean(c.Reason), Type: string(c.kind), Text: clean(problemText(c))}
			if c.kind == fault.Expectation || c.kind == fault.API {
				j.Failure = problem
				suite.Failures++
			} else {
				j.Error = problem
				suite.Errors++
			}
		}
		suite.Cases = append(suite.Cases, j)
	}
	raw, err := xml.MarshalIndent(junitSuites{Suite: suite}, "", "  ")
	return append([]byte(xml.Header), append(raw, '\n')...), err
}

// clean leaves out what XML 1.0 cannot hold.
func clean(s string) string { return SafeText(s) }

func problemText(c RoundCall) string {
	var b strings.Builder
	for _, f := range c.Failures {
		fmt.Fprintf(&b, "%s\n  expected: %s\n  actual:   %s\n  at:       %s\n", f.What, f.Expected, f.Actual, f.Where)
	}
	for _, f := range c.Findings {
		fmt.Fprintf(&b, "%s (%s, %s)\n", f.Title, f.ID, f.Certainty)
		for _, it := range f.Evidence {
			fmt.Fprintf(&b, "  %s: %s\n", it.What, it.Value)
		}
		for _, r := range f.Remedy {
			fmt.Fprintf(&b, "  -> %s\n", r)
		}
	}
	return b.String()
}
