package seal

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/zalando/go-keyring"

	"tidycourier/core/fault"
)

// KeyVariable is the environment variable that hands over the sealing key.
const KeyVariable = "TIDY_COURIER_KEY"

const (
	keyFileName    = "key"
	keyringService = "tidy-courier"
	// keyringPatience bounds the wait for a keyring service: one that asks a
	// person to unlock it must not hang a job that has no person.
	keyringPatience = 5 * time.Second
)

// FindKey returns the Box of a state folder, and in one word where its key is
// kept: "environment", "file" or "keyring". The variable wins, since it is set
// on purpose; then a key file that is already there; then the keyring of the
// operating system. Where none holds a key yet, one is made and put in the
// keyring, or where there is no keyring in a file of mode 0600.
func FindKey(dir string, getenv func(string) string) (*Box, string, error) {
	if text := getenv(KeyVariable); text != "" {
		key, err := parseKey(text)
		if err != nil {
			return nil, "", fault.Wrap(fault.Settings, err, "the sealing key is unusable").At(KeyVariable)
		}
		return box(key, "environment")
	}
	path := filepath.Join(dir, keyFileName)
	if key, err := readKeyFile(path); err != nil || key != nil {
		if err != nil {
			return nil, "", err
		}
		return box(key, "file")
	}
	lock := flock.New(filepath.Join(dir, "key.lock"), flock.SetPermissions(0o600))
	if err := lock.Lock(); err != nil {
		return nil, "", fault.Wrap(fault.Settings, err, "the state folder %s cannot be written", dir).Hint("name another with --state or TIDY_COURIER_STATE")
	}
	defer func() { _ = lock.Unlock() }()
	return makeKey(dir, path, getenv)
}

// makeKey looks once more under the lock, so that processes which start
// together agree on one key.
func makeKey(dir, path string, getenv func(string) string) (*Box, string, error) {
	if key, err := readKeyFile(path); err != nil || key != nil {
		if err != nil {
			return nil, "", err
		}
		return box(key, "file")
	}
	// where something is sealed already, a new key would only shadow the lost one
	databases, _ := filepath.Glob(filepath.Join(dir, "*.db")) // the pattern is well formed
	if keyringReachable(getenv) {
		account, _ := filepath.Abs(dir)
		if key, ok := keyringKey(account, len(databases) == 0); ok {
			return box(key, "keyring")
		}
	}
	if len(databases) > 0 {
		return nil, "", fault.New(fault.Settings, "the key that %s was sealed with is not to be found here", filepath.Base(databases[0])).At(dir).
			Hint("it may be in a keyring that cannot be reached from here (no desktop session, or locked); bring it back, hand it over in %s, or start anew in another folder with --state", KeyVariable)
	}
	key := newKey()
	text := base64.StdEncoding.EncodeToString(key) + "\n"
	temp := path + ".new"
	if err := os.WriteFile(temp, []byte(text), 0o600); err != nil {
		return nil, "", fault.Wrap(fault.Settings, err, "the sealing key cannot be kept").Hint("make the state folder writable, or set %s", KeyVariable)
	}
	if err := os.Rename(temp, path); err != nil {
		return nil, "", fault.Wrap(fault.Settings, err, "the sealing key cannot be kept")
	}
	return box(key, "file")
}

func box(key []byte, source string) (*Box, string, error) {
	b, err := NewBox(key)
	return b, source, err
}

// readKeyFile returns nil without error when there is no key file.
func readKeyFile(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fault.Wrap(fault.Settings, err, "the sealing key cannot be read").At(path)
	}
	if runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return nil, fault.New(fault.Settings, "the sealing key can be read by others (mode %04o)", info.Mode().Perm()).At(path).
			Hint("chmod 600 %s, and think about who may have read it", path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Wrap(fault.Settings, err, "the sealing key cannot be read").At(path)
	}
	key, err := parseKey(string(text))
	if err != nil {
		return nil, fault.Wrap(fault.Settings, err, "the sealing key is unusable").At(path).
			Hint("restore the file; without the key it was made with, the pouch cannot be opened")
	}
	return key, nil
}

// parseKey reads 32 bytes as base64 or hex.
func parseKey(text string) ([]byte, error) {
	text = strings.TrimSpace(text)
	for _, decode := range []func(string) ([]byte, error){
		hex.DecodeString, base64.StdEncoding.DecodeString, base64.RawStdEncoding.DecodeString, base64.RawURLEncoding.DecodeString,
	} {
		if key, err := decode(text); err == nil && len(key) == KeySize {
			return key, nil
		}
	}
	return nil, errors.New("it must be 32 bytes, written in base64 or hex")
}

// keyringReachable tells whether asking is worthwhile. Without a session bus on
// Linux the client library would start one.
func keyringReachable(getenv func(string) string) bool {
	if getenv("TIDY_COURIER_KEYRING") == "off" {
		return false
	}
	if runtime.GOOS == "darwin" || runtime.GOOS == "windows" {
		return true
	}
	if getenv("DBUS_SESSION_BUS_ADDRESS") != "" {
		return true
	}
	_, err := os.Stat(filepath.Join(getenv("XDG_RUNTIME_DIR"), "bus"))
	return getenv("XDG_RUNTIME_DIR") != "" && err == nil
}

// keyringKey gets the key from the keyring, or where it may makes one there.
// False means that there is no usable keyring, or no key in it.
func keyringKey(account string, mayMake bool) ([]byte, bool) {
	type answer struct {
		key []byte
		ok  bool
	}
	done := make(chan answer, 1)
	go func() {
		text, err := keyring.Get(keyringService, account)
		if errors.Is(err, keyring.ErrNotFound) && mayMake {
			text = base64.StdEncoding.EncodeToString(newKey())
			err = keyring.Set(keyringService, account, text)
		}
		key, bad := parseKey(text)
		done <- answer{key, err == nil && bad == nil}
	}()
	select {
	case a := <-done:
		return a.key, a.ok
	case <-time.After(keyringPatience):
		return nil, false
	}
}
