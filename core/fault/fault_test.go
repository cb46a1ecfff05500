package fault

import (
	"errors"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
)

// The exit statuses are a contract.
func TestExitStatus(t *testing.T) {
	want := map[Kind]int{Internal: 1, Usage: 2, Settings: 3, Unreachable: 4, Authorization: 5, API: 6, Expectation: 7, Interrupted: 130, "unheard of": 1}
	for kind, status := range want {
		assert.Equal(t, status, kind.ExitStatus(), kind)
	}
}

func TestErrorKeepsItsCauseAndPlace(t *testing.T) {
	err := Wrap(Settings, io.ErrUnexpectedEOF, "the file %s broke off", "x").At("courier.yaml:3:4").Hint("try %s", "again")
	assert.Equal(t, "courier.yaml:3:4: the file x broke off: unexpected EOF", err.Error())
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	assert.Equal(t, "try again", err.Next)
	assert.Same(t, err, As(fmt.Errorf("further up: %w", err)), "found again, however deep")
}

func TestEveryErrorHasAKind(t *testing.T) {
	assert.Nil(t, As(nil))
	plain := errors.New("plain")
	got := As(plain)
	assert.Equal(t, Internal, got.Kind)
	assert.ErrorIs(t, got, plain)
}
