package show

import (
	"testing"

	"charm.land/lipgloss/v2"
	"github.com/stretchr/testify/assert"
)

func TestWidthIsThatOfTheLibrary(t *testing.T) {
	shapes := "·…✔✘▲●≠−→←↑↓"
	for r := rune(0x2500); r <= 0x259f; r++ {
		shapes += string(r)
	}
	for _, s := range []string{"", "plain text", shapes, "ø", "日本", "e\u0301", "\x1b[31mred\x1b[0m", "a\tb", "👩‍🔬"} {
		assert.Equal(t, lipgloss.Width(s), width(s), "%q", s)
	}
}
