package project

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"

	"tidycourier/core/fault"
)

// KV is one field to write, its value already in YAML.
type KV struct{ Name, YAML string }

// Quote renders a text as a YAML scalar, in quotes only where it needs them.
func Quote(s string) string {
	const risky = ":#{}[]&*!|>'\"%@`,?-"
	plain := s != "" && strings.TrimSpace(s) == s && !strings.ContainsAny(s, "\n\t\"'{}[],#&*!|>%@`") &&
		!strings.Contains(s, ": ") && !strings.HasSuffix(s, ":") && !strings.ContainsRune(risky, rune(s[0]))
	switch strings.ToLower(s) {
	case "true", "false", "null", "yes", "no", "on", "off", "~":
		plain = false
	}
	if plain {
		return s
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`, "\r", `\r`).Replace(s) + `"`
}

// QuoteList renders a list as a YAML flow sequence.
func QuoteList(items []string) string {
	out := make([]string, len(items))
	for i, s := range items {
		out[i] = Quote(s)
		if strings.HasPrefix(out[i], `"`) || !strings.ContainsAny(s, ",[]{}") {
			continue
		}
		out[i] = `"` + s + `"`
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// Put writes fields of an entry into the text of a courier file, touching
// nothing else: comments, order and spacing stay. Fields that are there already
// are replaced, others are added at the entry's end; the entry and its section
// are made when they are missing. The result is read back before it is returned.
func Put(src []byte, display, section, name string, fields []KV) ([]byte, error) {
	root, err := parse(src, display)
	if err != nil {
		return nil, err
	}
	lines := strings.SplitAfter(string(src), "\n")
	if n := len(lines); n > 0 && lines[n-1] == "" {
		lines = lines[:n-1]
	} else if n > 0 {
		lines[n-1] += "\n"
	}
	ed := &editor{lines: lines, display: display}
	if err := ed.put(root, section, name, fields); err != nil {
		return nil, err
	}
	out := []byte(strings.Join(ed.lines, ""))
	again, err := parse(out, display)
	if err != nil {
		return nil, fault.Wrap(fault.Internal, err, "the edited courier file would not be readable; it was left as it is")
	}
	return out, check(again)
}

type editor struct {
	lines   []string
	display string
}

func (ed *editor) put(root *node, section, name string, fields []KV) error {
	sec := root.entry(section)
	switch {
	case sec == nil:
		ed.lines = append(ed.lines, "\n", section+":\n")
		ed.insert(len(ed.lines), newEntry(name, fields, 2))
		return nil
	case sec.value.kind == nodeNull:
		ed.insert(sec.line, newEntry(name, fields, 2))
		return nil
	case sec.value.flow:
		return ed.inBraces(section, sec.where)
	}
	e := sec.value.entry(name)
	indent := sec.value.keys[0].col - 1
	if e == nil {
		ed.insert(ed.blockEnd(sec.line, sec.col), newEntry(name, fields, indent))
		return nil
	}
	if e.value.kind == nodeNull {
		ed.insert(e.line, fieldLines(fields, indent+2))
		return nil
	}
	if e.value.flow || e.value.kind != nodeMap {
		return ed.inBraces(name, e.where)
	}
	return ed.fields(e, fields)
}

func (ed *editor) inBraces(what, where string) error {
	return fault.New(fault.Settings, "%q is written in braces, where fields cannot be added without rewriting it", what).At(where).
		Hint("write it as lines, one key each, and try again")
}

// fields replaces or adds fields of an entry that is there.
func (ed *editor) fields(e *entry, fields []KV) error {
	inner := e.value.keys[0].col - 1
	var missing []KV
	for _, f := range fields {
		have := e.value.entry(f.Name)
		if have == nil {
			missing = append(missing, f)
			continue
		}
		if err := ed.replace(have, f); err != nil {
			return err
		}
	}
	ed.insert(ed.blockEnd(e.line, e.col), fieldLines(missing, inner))
	return nil
}

// replace swaps the value on a key's line, keeping a comment behind it.
func (ed *editor) replace(have *entry, f KV) error {
	line := ed.lines[have.line-1]
	before := line[:strings.Index(line, have.name)+len(have.name)]
	body, ending := strings.TrimRight(line, "\r\n"), line[len(strings.TrimRight(line, "\r\n")):]
	if v := have.value; v.kind == nodeMap && !v.flow || v.kind == nodeList && !v.flow || v.kind == nodeScalar && v.line != have.line {
		return fault.New(fault.Settings, "%q has its value on the lines below, which cannot be replaced in place", f.Name).At(have.where).
			Hint("write it on one line, and try again")
	}
	comment := ""
	if i := commentStart(body, len(before)); i >= 0 {
		comment = body[i:]
	}
	ed.lines[have.line-1] = before + ": " + f.YAML + comment + ending
	return nil
}

// commentStart finds the white space before a # that begins a comment.
func commentStart(line string, from int) int {
	quote := byte(0)
	for i := from; i < len(line); i++ {
		switch c := line[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '#' && i > 0 && (line[i-1] == ' ' || line[i-1] == '\t'):
			return len(strings.TrimRight(line[:i], " \t"))
		}
	}
	return -1
}

// blockEnd is the number of lines up to the last one that belongs to the block
// whose key stands at line (1-based) and column.
func (ed *editor) blockEnd(line, col int) int {
	end := line
	for i := line; i < len(ed.lines); i++ {
		text := strings.TrimRight(ed.lines[i], "\r\n \t")
		trimmed := strings.TrimLeft(text, " ")
		if trimmed == "" || strings.HasPrefix(trimmed, "#") {
			continue
		}
		if len(text)-len(trimmed) < col {
			break
		}
		end = i + 1
	}
	return end
}

func (ed *editor) insert(after int, text []string) {
	out := append([]string{}, ed.lines[:after]...)
	out = append(out, text...)
	ed.lines = append(out, ed.lines[after:]...)
}

func newEntry(name string, fields []KV, indent int) []string {
	return append([]string{strings.Repeat(" ", indent) + name + ":\n"}, fieldLines(fields, indent+2)...)
}

func fieldLines(fields []KV, indent int) []string {
	var out []string
	for _, f := range fields {
		out = append(out, strings.Repeat(" ", indent)+f.Name+": "+f.YAML+"\n")
	}
	return out
}

// WriteFile replaces a file whole or not at all, keeping the mode it had.
func WriteFile(path string, content []byte, mode os.FileMode) error {
	if info, err := os.Stat(path); err == nil {
		mode = info.Mode().Perm()
	}
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+".*")
	if err != nil {
		return fault.Wrap(fault.Settings, err, "the file cannot be written").At(path)
	}
	defer os.Remove(f.Name())
	_, err = f.Write(content)
	if err == nil {
		err = f.Chmod(mode)
	}
	if err == nil {
		err = f.Sync()
	}
	if bad := f.Close(); err == nil {
		err = bad
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return fault.Wrap(fault.Settings, err, "the file cannot be written; it was left as it is").At(path)
	}
	return nil
}

// AppendEnv adds NAME=value lines to the text of a .env file, without touching
// names that are there already.
func AppendEnv(src []byte, pairs []KV) []byte {
	out := bytes.Clone(src)
	if len(out) > 0 && out[len(out)-1] != '\n' {
		out = append(out, '\n')
	}
	for _, p := range pairs {
		if bytes.HasPrefix(out, []byte(p.Name+"=")) || bytes.Contains(out, []byte("\n"+p.Name+"=")) {
			continue
		}
		out = append(out, p.Name+"="+envQuote(p.YAML)+"\n"...)
	}
	return out
}

// envQuote puts a value into quotes where the .env reader would otherwise
// change it: it expands $ and cuts at #.
func envQuote(v string) string {
	if !strings.ContainsAny(v, " \t#$'\"\\`\n") {
		return v
	}
	if !strings.ContainsAny(v, "'\n") {
		return "'" + v + "'"
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "$", `\$`).Replace(v) + `"`
}
