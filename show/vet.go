package show

import "tidycourier/core/flow"

// Checks draws a table of checks, a block a client.
func (p *Pen) Checks(list []flow.Checked, least bool) {
	if len(list) == 0 {
		text := "nothing to check"
		if least {
			text = "no round of this project and stage has passed yet; tidy-courier round NAME runs one"
		}
		p.line(p.faint(text))
		return
	}
	client := ""
	for i, c := range list {
		if c.Client != client {
			if i > 0 {
				p.line()
			}
			client = c.Client
			p.line(p.strong(Safe(client)))
		}
		mark, id := p.accent(shapeGood), ""
		switch c.Outcome {
		case flow.VetWarn:
			mark = p.amber(shapeSoon)
		case flow.VetFail:
			mark = p.red(shapeBad)
		case flow.VetSkipped:
			mark = p.faint(shapeNote)
		}
		if c.Outcome == flow.VetWarn || c.Outcome == flow.VetFail {
			id = c.Finding
			if c.Where != "" {
				id += "   " + Safe(c.Where)
			}
		}
		for n, l := range p.fold(Safe(c.Detail), p.width()-27) {
			if n > 0 {
				p.line("   ", pad("", 23), l)
				continue
			}
			p.line(" ", mark, "  ", pad(c.Name, 21), "  ", l)
		}
		if id != "" {
			p.line("    ", pad("", 21), "  ", p.faint(id))
		}
	}
}
