package cli_test

import (
	"bufio"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/cli"
	"tidycourier/standin"
)

// TestMain lets the test binary be the built program: every script and every
// stand-in below is a process of its own.
func TestMain(m *testing.M) {
	if filepath.Base(os.Args[0]) == "tidy-courier" { // started through the symlink of a test
		os.Exit(cli.Main(os.Args[1:], cli.Process()))
	}
	testscript.Main(m, map[string]func(){
		"tidy-courier": func() { os.Exit(cli.Main(os.Args[1:], cli.Process())) },
		"browse":       browse,
	})
}

// TestScripts runs each file of testdata/script in a temporary folder. The
// command standin [FLAG…] starts a stand-in process, writes its project into the
// working folder, and sets $HOST.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script",
		Setup: func(env *testscript.Env) error {
			env.Setenv("TIDY_COURIER_STATE", filepath.Join(env.WorkDir, ".state"))
			env.Setenv("TIDY_COURIER_KEYRING", "off")
			env.Setenv("TZ", "UTC")
			env.Setenv("NO_PROXY", "*")
			return nil
		},
		Cmds: map[string]func(ts *testscript.TestScript, neg bool, args []string){
			"standin": startStandin,
			"jsonhas": jsonHas,
			"mode":    checkMode,
		},
	})
}

// program is this test binary under the program's name.
func program(ts *testscript.TestScript) string {
	for _, dir := range filepath.SplitList(ts.Getenv("PATH")) {
		if path := filepath.Join(dir, "tidy-courier"); isFile(path) || isFile(path+".exe") {
			return path
		}
	}
	ts.Fatalf("the program is not on the path")
	return ""
}

func isFile(path string) bool { info, err := os.Stat(path); return err == nil && !info.IsDir() }

func startStandin(ts *testscript.TestScript, _ bool, args []string) {
	base := []string{"standin", "--json", "--listen", "127.0.0.1:0"}
	if !slices.Contains(args, "--replay") {
		base = append(base, "--project", ts.MkAbs("."))
	}
	cmd := exec.Command(program(ts), append(base, args...)...)
	cmd.Dir = ts.MkAbs(".")
	cmd.Env = append(os.Environ(), "HOME="+ts.Getenv("WORK"))
	out, err := cmd.StdoutPipe()
	ts.Check(err)
	ts.Check(cmd.Start())
	ts.Defer(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		timer := time.AfterFunc(5*time.Second, func() { _ = cmd.Process.Kill() })
		defer timer.Stop()
		_ = cmd.Wait() // an interrupted stand-in is what is wanted here
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	ts.Check(err)
	var ready struct {
		Issuer  string
		Servers []struct{ Served string }
	}
	ts.Check(json.Unmarshal([]byte(line), &ready))
	if len(ready.Servers) > 0 {
		ready.Issuer = ready.Servers[0].Served
	}
	ts.Setenv("HOST", ready.Issuer)
}

// jsonHas checks one member of the JSON document on standard output:
// jsonhas path.to.member value, where a number steps into a list and the value
// is the member as JSON, or as text when it is a string.
func jsonHas(ts *testscript.TestScript, neg bool, args []string) {
	if len(args) != 2 {
		ts.Fatalf("usage: jsonhas path value")
	}
	var doc any
	ts.Check(json.Unmarshal([]byte(ts.ReadFile("stdout")), &doc))
	for _, step := range strings.Split(args[0], ".") {
		switch v := doc.(type) {
		case map[string]any:
			doc = v[step]
		case []any:
			i := 0
			ts.Check(json.Unmarshal([]byte(step), &i))
			if i >= len(v) {
				ts.Fatalf("%s: the list has %d items", args[0], len(v))
			}
			doc = v[i]
		default:
			ts.Fatalf("%s: nothing at %s", args[0], step)
		}
	}
	text, ok := doc.(string)
	if !ok {
		raw, err := json.Marshal(doc)
		ts.Check(err)
		text = string(raw)
	}
	if (text == args[1]) == neg {
		ts.Fatalf("%s is %s", args[0], text)
	}
}

// checkMode checks a file's permission bits: mode 600 FILE.
func checkMode(ts *testscript.TestScript, _ bool, args []string) {
	info, err := os.Stat(ts.MkAbs(args[1]))
	ts.Check(err)
	if got := strconv.FormatUint(uint64(info.Mode().Perm()), 8); got != args[0] {
		ts.Fatalf("%s has mode %s", args[1], got)
	}
}

// TestEveryFaultIsDriven: each fault of the stand-in is met by the built program
// in some script, which says how it is explained.
func TestEveryFaultIsDriven(t *testing.T) {
	files, err := filepath.Glob(filepath.Join("testdata", "script", "*.txt"))
	require.NoError(t, err)
	var all strings.Builder
	for _, f := range files {
		raw, err := os.ReadFile(f)
		require.NoError(t, err)
		all.Write(raw)
	}
	for _, name := range standin.FaultNames() {
		assert.True(t, regexp.MustCompile(`--fault `+regexp.QuoteMeta(name)+`\b`).MatchString(all.String()), name)
	}
}
