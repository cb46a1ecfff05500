package cli

import (
	"bufio"
	"fmt"
	"os"
	"strconv"
	"strings"

	"golang.org/x/term"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/show"
)

// ask reads a secret at a hidden prompt.
func (a *app) ask(field string) (string, error) {
	f, ok := a.In.(*os.File)
	if !ok {
		return "", fault.New(fault.Settings, "there is no terminal to ask for the %s at", field)
	}
	fmt.Fprintf(a.Err, "%s (not shown): ", strings.ReplaceAll(field, "_", " "))
	raw, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(a.Err)
	if err != nil {
		return "", fault.Wrap(fault.Settings, err, "the %s could not be read from the terminal", field)
	}
	if len(raw) == 0 {
		return "", fault.New(fault.Settings, "nothing was typed for the %s", field)
	}
	return string(raw), nil
}

// choose lets a person choose one of several records at the terminal.
func (a *app) choose(name string, options []flow.Option) (int, error) {
	fmt.Fprintf(a.Err, "\nwhich one is to be kept as ${%s}?\n", show.Safe(name))
	for i, o := range options {
		label := show.Safe(o.Label)
		if label != "" {
			label = "   " + label
		}
		fmt.Fprintf(a.Err, "  %2d  %s%s\n", i+1, show.Safe(o.Value), label)
	}
	in := bufio.NewReader(a.In)
	for {
		fmt.Fprintf(a.Err, "number, 1 to %d: ", len(options))
		line, err := in.ReadString('\n')
		if n, bad := strconv.Atoi(strings.TrimSpace(line)); bad == nil && n >= 1 && n <= len(options) {
			return n - 1, nil
		}
		if err != nil {
			return 0, fault.New(fault.Settings, "nothing was chosen for ${%s}", name).Hint("choose with --set %s=VALUE", name)
		}
	}
}

// agree asks a question whose answer is yes or no; without a terminal it is the
// refusal, which names the flag.
func (a *app) agree(question string, refusal *fault.Error, declined string) error {
	if !isTerminal(a.In) || a.g.json {
		return refusal
	}
	fmt.Fprint(a.Err, question)
	answer, _ := bufio.NewReader(a.In).ReadString('\n') // no answer is no agreement
	if w := strings.ToLower(strings.TrimSpace(answer)); w != "y" && w != "yes" {
		return fault.New(fault.Interrupted, "%s", declined)
	}
	return nil
}
