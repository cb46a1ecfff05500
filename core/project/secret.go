package project

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/near"
)

// secretSources are the ways to reach a secret.
var secretSources = []string{"env", "file", "command", "ask"}

// commandPatience bounds a secret manager's answer; one may ask for a touch.
const commandPatience = 60 * time.Second

// Secret is where a secret comes from. It is read only when it is needed, and
// never prints itself.
type Secret struct {
	Field   string // client_secret, password, refresh_token
	Where   string
	Env     string
	File    string
	Command []string
	Ask     bool
	Literal bool // it stands in the courier file itself
	literal string
}

// Source says in a few words where the secret comes from.
func (s *Secret) Source() string {
	switch {
	case s == nil:
		return "none"
	case s.Env != "":
		return "environment variable " + s.Env
	case s.File != "":
		return "file " + s.File
	case len(s.Command) > 0:
		return "command " + s.Command[0]
	case s.Ask:
		return "asked for at a hidden prompt"
	}
	return "written in the courier file"
}

// String never shows the value.
func (s *Secret) String() string { return "[" + s.Source() + "]" }

// GoString never shows the value.
func (s *Secret) GoString() string { return s.String() }

func checkSecret(e entry) error {
	v := e.value
	if v.kind == nodeScalar {
		return nil // a literal; reported as a finding
	}
	list := strings.Join(secretSources, ", ")
	if v.kind != nodeMap || len(v.keys) != 1 {
		return fault.New(fault.Settings, "%q takes exactly one source: %s", e.name, list).At(v.where).
			Hint("for example %s: { env: NIGHTLY_SECRET }", e.name)
	}
	source := v.keys[0]
	wrong := func(format string) error {
		return fault.New(fault.Settings, format, source.name).At(source.value.where)
	}
	switch source.name {
	case "env", "file":
		if source.value.kind != nodeScalar {
			return wrong("%q must be a text")
		}
	case "command":
		if source.value.kind != nodeList || len(source.value.items) == 0 {
			return wrong("%q must be a list: the program and its arguments, as in [secret-reader, nightly]")
		}
		return checkList(source.value, nil)
	case "ask":
		if !source.value.isBool || source.value.text != "true" {
			return wrong("%q must be true")
		}
	default:
		err := fault.New(fault.Settings, "%q is not a source of secrets", source.name).At(source.where)
		if n := near.Name(source.name, secretSources); n != "" {
			return err.Hint("did you mean %q? sources: %s", n, list)
		}
		return err.Hint("sources: %s", list)
	}
	return nil
}

// secret resolves a secret field; nil when it is not set.
func (p *Project) secret(n *node, field string) (*Secret, error) {
	v := n.get(field)
	if v == nil {
		return nil, nil
	}
	s := &Secret{Field: field, Where: v.where}
	if v.kind == nodeScalar {
		text, _, err := p.expand(v.text, field, v.where)
		if err != nil {
			return nil, err
		}
		s.Literal, s.literal = !strings.Contains(v.text, "${"), text
		return s, nil
	}
	source := v.keys[0]
	text := func(n *node) (string, error) {
		out, _, err := p.expand(n.text, field, n.where)
		return out, err
	}
	var err error
	switch source.name {
	case "env":
		s.Env, err = text(source.value)
	case "file":
		s.File, err = text(source.value)
	case "command":
		for _, item := range source.value.items {
			arg, bad := text(item)
			err = errors.Join(err, bad)
			s.Command = append(s.Command, arg)
		}
	case "ask":
		s.Ask = true
	}
	return s, err
}

// Asker asks a person for a secret at a hidden prompt. It returns an error of
// kind usage when there is no terminal.
type Asker func(prompt string) (string, error)

// Read fetches the secret. It is given as it is: an edge newline or a quote is
// evidence, not something to tidy away. Only a command's output is cut to its
// first line.
func (p *Project) Read(ctx context.Context, s *Secret, ask Asker) (string, error) {
	switch {
	case s.Env != "":
		v, _, ok := p.Env(s.Env)
		if !ok {
			return "", fault.New(fault.Settings, "the %s is to come from the environment variable %s, which is not set", s.Field, s.Env).At(s.Where).
				Hint("export %s, or put a line %s=… in %s", s.Env, s.Env, p.display(p.envPath()))
		}
		if v == "" {
			return "", fault.New(fault.Settings, "the %s is to come from the environment variable %s, which is empty", s.Field, s.Env).At(s.Where).
				Hint("fill in the line %s= in %s", s.Env, p.display(p.envPath()))
		}
		return v, nil
	case s.File != "":
		return p.readSecretFile(s)
	case len(s.Command) > 0:
		return p.runSecretCommand(ctx, s)
	case s.Ask:
		if ask == nil {
			return "", fault.New(fault.Settings, "the %s is to be asked for, and there is no terminal to ask at", s.Field).At(s.Where).
				Hint("give it another source: env, file or command")
		}
		return ask(s.Field)
	}
	return s.literal, nil
}

func (p *Project) readSecretFile(s *Secret) (string, error) {
	path := s.File
	if !filepath.IsAbs(path) {
		path = filepath.Join(p.Dir(), path)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return "", fault.Wrap(fault.Settings, err, "the %s could not be read", s.Field).At(s.Where).Hint("the path is taken from the courier file's folder")
	}
	if len(raw) == 0 {
		return "", fault.New(fault.Settings, "the file %s for the %s is empty", s.File, s.Field).At(s.Where)
	}
	return string(raw), nil
}

func (p *Project) runSecretCommand(ctx context.Context, s *Secret) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, commandPatience)
	defer cancel()
	cmd := exec.CommandContext(ctx, s.Command[0], s.Command[1:]...)
	cmd.Dir = p.Dir()
	cmd.WaitDelay = time.Second
	out, err := cmd.Output()
	if err != nil {
		detail := err.Error()
		var exit *exec.ExitError
		if errors.As(err, &exit) && len(exit.Stderr) > 0 {
			line, _, _ := strings.Cut(strings.TrimSpace(string(exit.Stderr)), "\n")
			detail += ", and said: " + line
		}
		return "", fault.New(fault.Settings, "the command %s for the %s failed: %s", s.Command[0], s.Field, detail).At(s.Where).
			Hint("run it by hand; it must print the secret on its first line and exit with 0")
	}
	line, _, _ := strings.Cut(string(out), "\n")
	line = strings.TrimSuffix(line, "\r")
	if line == "" {
		return "", fault.New(fault.Settings, "the command %s for the %s printed nothing on its first line", s.Command[0], s.Field).At(s.Where)
	}
	return line, nil
}

// EdgeWhitespace says what stands at the edges of a secret that does not
// belong there, or "".
func EdgeWhitespace(v string) string {
	trimmed := strings.TrimSpace(v)
	if trimmed == v {
		return ""
	}
	describe := func(s string) string {
		switch s {
		case "\n":
			return "a newline"
		case "\r\n":
			return "a carriage return and newline"
		case " ":
			return "a space"
		case "\t":
			return "a tab"
		}
		return fmt.Sprintf("%d white-space characters", len([]rune(s)))
	}
	i := strings.Index(v, trimmed)
	switch head, tail := v[:i], v[i+len(trimmed):]; {
	case head == "":
		return "ends with " + describe(tail)
	case tail == "":
		return "begins with " + describe(head)
	default:
		return "begins with " + describe(head) + " and ends with " + describe(tail)
	}
}
