package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/project"
)

func (a *app) initCommand() *cobra.Command {
	var s project.Start
	var registration, scope string
	var public, force bool
	cmd := &cobra.Command{
		Use: "init", Short: "Write a first courier file and a .env for its secrets",
		Long: `Writes courier.yaml and .env in this folder, and puts .env into .gitignore. The
courier file can be shared; the secrets are in .env, readable by you alone. A file
that is there already is never overwritten without --force.

--registration FILE reads what the provider answered when the client was
registered (RFC 7591 3.2.1), - reads it from standard input.`,
		Example: `  tidy-courier init --issuer http://127.0.0.1:8650 --client nightly-forecast --client-id nightly-forecast
  tidy-courier init --issuer http://127.0.0.1:8650 --registration registration.json`,
		Args: takes(0, 0, "no argument"),
		RunE: func(*cobra.Command, []string) error {
			start, err := a.start(s, registration)
			if err != nil {
				return err
			}
			start.Public = start.Public || public
			if scope != "" {
				start.Scope = strings.Fields(scope)
			}
			if err := start.Fill(); err != nil {
				return err
			}
			return a.writeStart(start, force)
		},
	}
	f := cmd.Flags()
	f.StringVar(&s.Issuer, "issuer", "", "the server's issuer `URL`")
	f.StringVar(&s.Server, "server", "", "`name` of the server's entry (default provider)")
	f.StringVar(&s.Client, "client", "", "`name` of the client's entry (default: made from the client id)")
	f.StringVar(&s.ClientID, "client-id", "", "the client identifier")
	f.StringVar(&s.Grant, "grant", "", "how it gets tokens: "+strings.Join(project.Grants, ", "))
	f.StringVar(&s.Redirect, "redirect-uri", "", "the registered redirect `URI`")
	f.StringVar(&scope, "scope", "", "the scope to ask for, separated by spaces")
	f.BoolVar(&public, "public", false, "the client has no secret")
	f.StringVar(&registration, "registration", "", "the client registration answer, a JSON `file` or -")
	f.BoolVar(&force, "force", false, "overwrite a courier file that is there")
	return cmd
}

// start lays the flags over the registration.
func (a *app) start(flags project.Start, registration string) (project.Start, error) {
	if registration == "" {
		return flags, nil
	}
	var raw []byte
	var err error
	if registration == "-" {
		raw, err = a.readInput(1 << 20)
	} else {
		raw, err = os.ReadFile(a.path(registration))
	}
	if err != nil {
		return flags, fault.Wrap(fault.Usage, err, "the registration could not be read").At("--registration")
	}
	s, err := project.ReadRegistration(raw)
	if err != nil {
		f := fault.As(err)
		f.Where = registration
		return s, f
	}
	for _, o := range []struct{ flag, into *string }{{&flags.Issuer, &s.Issuer}, {&flags.Server, &s.Server}, {&flags.Client, &s.Client},
		{&flags.ClientID, &s.ClientID}, {&flags.Grant, &s.Grant}, {&flags.Redirect, &s.Redirect}} {
		if *o.flag != "" {
			*o.into = *o.flag
		}
	}
	return s, nil
}

// path takes a relative path from the working folder.
func (a *app) path(p string) string {
	if filepath.IsAbs(p) {
		return p
	}
	return filepath.Join(a.Dir, p)
}

func (a *app) writeStart(s project.Start, force bool) error {
	dir := a.Dir
	path := filepath.Join(dir, project.FileName)
	if a.g.file != "" {
		path = a.path(a.g.file)
		dir = filepath.Dir(path)
	}
	if _, err := os.Stat(path); err == nil && !force {
		return fault.New(fault.Settings, "a courier file is here already; it was left as it is").At(a.relative(path)).
			Hint("add to it with tidy-courier obtain --client-id … --write NAME, or overwrite it with --force")
	}
	if err := project.WriteFile(path, s.CourierFile(), 0o644); err != nil {
		return err
	}
	wrote := []string{a.relative(path)}
	if lines := s.EnvLines(); lines != nil {
		env := filepath.Join(dir, ".env")
		if err := writeEnv(env, lines); err != nil {
			return err
		}
		if err := ignore(dir); err != nil {
			return err
		}
		wrote = append(wrote, a.relative(env))
		if s.Secret == "" {
			a.say("fill in %s= in %s, then: tidy-courier obtain %s", lines[0].Name, a.relative(env), s.Client)
		}
	}
	a.say("wrote %s", strings.Join(wrote, " and "))
	a.doc = map[string]any{"wrote": wrote, "server": s.Server, "client": s.Client}
	return nil
}

func (a *app) relative(path string) string {
	if rel, err := filepath.Rel(a.Dir, path); err == nil && len(rel) < len(path) {
		return rel
	}
	return path
}

// writeEnv adds lines to .env, which is made with mode 0600; one that others
// can read is closed to them, since secrets go in now.
func writeEnv(path string, lines []project.KV) error {
	src, err := os.ReadFile(path)
	if os.IsNotExist(err) {
		src = []byte("# Secrets for courier.yaml. Never commit this file.\n")
	} else if err != nil {
		return fault.Wrap(fault.Settings, err, "the .env file cannot be read").At(path)
	} else if err := os.Chmod(path, 0o600); err != nil {
		return fault.Wrap(fault.Settings, err, "the .env file cannot be closed to others").At(path)
	}
	return project.WriteFile(path, project.AppendEnv(src, lines), 0o600)
}

// ignore puts .env into .gitignore.
func ignore(dir string) error {
	path := filepath.Join(dir, ".gitignore")
	src, err := os.ReadFile(path)
	if err != nil && !os.IsNotExist(err) {
		return fault.Wrap(fault.Settings, err, ".gitignore cannot be read").At(path)
	}
	for _, l := range strings.Split(string(src), "\n") {
		if l = strings.TrimSpace(l); l == ".env" || l == "/.env" {
			return nil
		}
	}
	if len(src) > 0 && !bytes.HasSuffix(src, []byte("\n")) {
		src = append(src, '\n')
	}
	return project.WriteFile(path, append(src, ".env\n"...), 0o644)
}
