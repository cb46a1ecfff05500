package show

import "fmt"

// Story draws a heading and a paragraph of the demo.
func (p *Pen) Story(title, text string) {
	p.line()
	p.line(p.strong(title))
	for _, l := range wrap(text, p.width()) {
		p.line(l)
	}
}

// Step draws a step of the demo: what is about to happen, and the command.
func (p *Pen) Step(n int, say, command string) {
	p.line()
	p.line()
	for i, l := range wrap(say, p.width()-4) {
		mark := "    "
		if i == 0 {
			mark = fmt.Sprintf("%2d. ", n)
		}
		p.line(p.strong(mark + l))
	}
	p.line("    ", p.accent("$ "), Safe(command))
	p.line()
}
