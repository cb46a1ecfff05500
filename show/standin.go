package show

import (
	"fmt"
	"strings"

	"tidycourier/standin"
)

// Standin draws what the simulated provider offers. Its secrets are made up and
// shown on purpose.
func (p *Pen) Standin(issuer, api string, clients []standin.Client, users []standin.User) {
	p.line(p.strong("Northmark Tide Office"), "   ", p.faint("simulated; everything in it is made up"))
	p.table("   ", [][]string{{p.accent("issuer"), issuer}, {p.accent("API"), api}})
	p.line()
	rows := [][]string{{p.faint("client"), p.faint("authentication"), p.faint("grants"), p.faint("secret")}}
	for _, c := range clients {
		rows = append(rows, []string{c.ID, c.AuthMethod, strings.Join(c.Grants, " "), c.Secret})
	}
	p.table("   ", rows)
	if len(users) == 0 {
		return
	}
	p.line()
	rows = [][]string{{p.faint("account"), p.faint("password")}}
	for _, u := range users {
		rows = append(rows, []string{u.Name, u.Password})
	}
	p.table("   ", rows)
}

// Replay draws what a record is served as.
func (p *Pen) Replay(answers int, origins [][2]string) {
	p.line(p.strong("a recorded provider"), "   ", p.faint(fmt.Sprintf("%d answers", answers)))
	recorded := 0
	for _, o := range origins {
		recorded = max(recorded, width(o[0]))
	}
	for _, o := range origins {
		p.line("   ", p.accent(pad(Safe(o[0]), recorded)), "  is at  ", o[1])
	}
}
