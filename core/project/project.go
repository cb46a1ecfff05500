// Package project reads the courier file: courier.yaml, the .env beside it,
// stages and ${placeholders}. It gives resolved servers, clients, APIs and
// calls, each value with the place it came from, so that every later error can
// name a file and line.
//
//	p, err := project.Open(path, project.Options{Stage: "production"})
//	c, err := p.Client("nightly-forecast")
//	secret, err := p.Read(ctx, c.Secret, ask)
package project

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/joho/godotenv"

	"tidycourier/core/fault"
)

// FileName is what a courier file is called when nothing else is said.
const FileName = "courier.yaml"

// Options say under which circumstances the file is read.
type Options struct {
	Stage     string
	Set       map[string]string           // --set name=value
	Kept      map[string]string           // values kept by earlier calls
	LookupEnv func(string) (string, bool) // the process environment
	Now       func() time.Time
	UUID      func() string
	WorkDir   string // paths in messages are relative to it
}

// Project is an open courier file.
type Project struct {
	path   string // "" when there is no file
	key    string // Key, once it is known
	root   *node
	opt    Options
	dotenv map[string]string
}

// Find walks up from dir to the nearest courier file; "" when there is none.
func Find(dir string) string {
	for {
		path := filepath.Join(dir, FileName)
		if info, err := os.Stat(path); err == nil && !info.IsDir() {
			return path
		}
		parent := filepath.Dir(dir)
		if parent == dir {
			return ""
		}
		dir = parent
	}
}

// Open reads and checks a courier file and the .env beside it. Every error is
// of kind settings and names its place.
func Open(path string, opt Options) (*Project, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, fault.Wrap(fault.Settings, err, "the courier file's path is unusable").At(path)
	}
	p := &Project{path: abs, opt: opt}
	p.defaults()
	p.key = p.Key()
	src, err := os.ReadFile(abs)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.Settings, "there is no courier file here").At(p.display(abs)).Hint("tidy-courier init writes one; --file names another")
	}
	if err != nil {
		return nil, fault.Wrap(fault.Settings, err, "the courier file cannot be read").At(p.display(abs))
	}
	if p.root, err = parse(src, p.display(abs)); err != nil {
		return nil, err
	}
	if err := check(p.root); err != nil {
		return nil, err
	}
	if opt.Stage != "" && p.root.get("stages").get(opt.Stage) == nil {
		return nil, missing(opt.Stage, "stage", "--stage", p.root.get("stages").names())
	}
	return p, p.readDotenv()
}

// Empty is a project without a file, for work by flags alone.
func Empty(opt Options) *Project {
	p := &Project{root: &node{kind: nodeMap}, opt: opt}
	p.defaults()
	return p
}

func (p *Project) defaults() {
	if p.opt.LookupEnv == nil {
		p.opt.LookupEnv = os.LookupEnv
	}
	if p.opt.Now == nil {
		p.opt.Now = time.Now
	}
	if p.opt.UUID == nil {
		p.opt.UUID = uuid.NewString
	}
	if p.opt.WorkDir == "" {
		p.opt.WorkDir, _ = os.Getwd()
	}
}

func (p *Project) readDotenv() error {
	raw, err := os.ReadFile(p.envPath())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fault.Wrap(fault.Settings, err, "the .env file cannot be read").At(p.display(p.envPath()))
	}
	if p.dotenv, err = godotenv.UnmarshalBytes(raw); err != nil {
		// the library's message quotes the rest of the file, secrets and all
		return fault.New(fault.Settings, "the .env file cannot be read: a line is not NAME=value, or a quote is not closed").
			At(p.display(p.envPath())).Hint("each line is NAME=value; a value with spaces, # or $ goes in single quotes")
	}
	return nil
}

// Path is the courier file's absolute path, or "".
func (p *Project) Path() string { return p.path }

// Dir is the folder that relative paths in the file start from.
func (p *Project) Dir() string {
	if p.path == "" {
		return p.opt.WorkDir
	}
	return filepath.Dir(p.path)
}

// Stage is the stage in force, or "".
func (p *Project) Stage() string { return p.opt.Stage }

// Key tells projects apart in the state folder: 16 hex digits made from the
// file's path, or "" without a file.
func (p *Project) Key() string {
	if p.path == "" || p.key != "" {
		return p.key
	}
	sum := sha256.Sum256([]byte(p.path))
	return hex.EncodeToString(sum[:8])
}

// UseKept hands over the values that earlier calls kept.
func (p *Project) UseKept(kept map[string]string) { p.opt.Kept = kept }

// SameKept reports whether two openings of a project have the same kept values.
func (p *Project) SameKept(q *Project) bool { return maps.Equal(p.opt.Kept, q.opt.Kept) }

func (p *Project) envPath() string { return filepath.Join(p.Dir(), ".env") }

// Env looks a variable up in the process environment, then in .env, and says
// which it was.
func (p *Project) Env(name string) (value, source string, ok bool) {
	if v, ok := p.opt.LookupEnv(name); ok {
		return v, "the process environment", true
	}
	if v, ok := p.dotenv[name]; ok {
		return v, p.display(p.envPath()), true
	}
	return "", "", false
}

// display is a path as a person would write it: relative when that is shorter.
func (p *Project) display(path string) string {
	if rel, err := filepath.Rel(p.opt.WorkDir, path); err == nil && len(rel) < len(path) {
		return rel
	}
	return path
}

// Display is the courier file's name in messages.
func (p *Project) Display() string { return p.display(p.path) }

// Names lists the entries of a section (servers, clients, apis, calls, rounds, stages).
func (p *Project) Names(section string) []string {
	return slices.Clone(p.root.get(section).names())
}

// PlainHTTP is the hosts that plain http may be sent to, besides loopback.
func (p *Project) PlainHTTP() map[string]bool {
	out := map[string]bool{}
	if v := p.root.get("plain_http"); v != nil {
		for _, item := range append(slices.Clone(v.items), v) {
			if item.kind == nodeScalar {
				out[strings.TrimSpace(item.text)] = true
			}
		}
	}
	return out
}
