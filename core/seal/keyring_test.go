package seal

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRealKeyring runs TestInsideKeyring in a D-Bus session of its own, with an
// unlocked gnome-keyring. Nothing of the user's is touched.
func TestRealKeyring(t *testing.T) {
	for _, tool := range []string{"dbus-run-session", "gnome-keyring-daemon"} {
		if _, err := exec.LookPath(tool); err != nil {
			if os.Getenv("KEYRING_TESTS") == "required" {
				t.Fatalf("%s is not installed, and this run must not skip", tool)
			}
			t.Skipf("skipped: %s is not installed", tool)
		}
	}
	home := t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	script := `printf 'a-password-for-the-test\n' | gnome-keyring-daemon --unlock --components=secrets >/dev/null 2>&1 && exec "$0" -test.run '^TestInsideKeyring$' -test.v`
	cmd := exec.Command("dbus-run-session", "--", "sh", "-c", script, self)
	cmd.Env = append(os.Environ(), "HOME="+home, "XDG_RUNTIME_DIR="+home, "XDG_DATA_HOME="+filepath.Join(home, "data"), "INSIDE_KEYRING=yes", "DBUS_SESSION_BUS_ADDRESS=")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "--- PASS: TestInsideKeyring", "it must have run, not skipped")
}

// TestInsideKeyring is the part that has a keyring around it.
func TestInsideKeyring(t *testing.T) {
	if os.Getenv("INSIDE_KEYRING") == "" {
		t.Skip("run by TestRealKeyring")
	}
	env := os.Getenv
	dir := t.TempDir()
	made, source, err := FindKey(dir, env)
	require.NoError(t, err)
	require.Equal(t, "keyring", source, "there is a keyring, so the key goes there")
	again, source, err := FindKey(dir, env)
	require.NoError(t, err)
	assert.Equal(t, []string{"keyring", made.ID()}, []string{source, again.ID()}, "and is found there again")
	_, err = os.Stat(filepath.Join(dir, keyFileName))
	assert.ErrorIs(t, err, os.ErrNotExist, "nothing of it lies in the folder")

	other, _, err := FindKey(t.TempDir(), env)
	require.NoError(t, err)
	assert.NotEqual(t, made.ID(), other.ID(), "each folder has a key of its own")

	// a folder that was sealed with the keyring's key, and no keyring any more
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pouch.db"), []byte("sealed"), 0o600))
	_, _, err = FindKey(dir, func(name string) string {
		if name == "TIDY_COURIER_KEYRING" {
			return "off"
		}
		return env(name)
	})
	require.Error(t, err)
	assert.True(t, strings.Contains(err.Error(), "not to be found here"), err.Error())
	again, _, err = FindKey(dir, env)
	require.NoError(t, err)
	assert.Equal(t, made.ID(), again.ID(), "with the keyring back, so is the key")
}
