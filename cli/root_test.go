package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Each command answers to the name it is listed under, alone and among all.
func TestCommandsAreListedUnderTheirNames(t *testing.T) {
	all := (&app{Surroundings: Process()}).root(nil)
	for _, c := range (&app{}).commands() {
		assert.Equal(t, c.name, c.make().Name())
		alone := (&app{Surroundings: Process()}).root([]string{c.name})
		assert.Len(t, alone.Commands(), 1, c.name)
		found, _, err := all.Find([]string{c.name})
		assert.NoError(t, err)
		assert.Equal(t, c.name, found.Name())
		assert.NotEmpty(t, found.Example, "%s: help ends with examples", c.name)
	}
	assert.Len(t, all.Commands(), len((&app{}).commands()))
	assert.Len(t, (&app{Surroundings: Process()}).root([]string{"--stage", "obtain", "show"}).Commands(), len((&app{}).commands()), "a flag first: it may take a value that is a name")
}
