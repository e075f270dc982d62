package people_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tidemarker/internal/core/people"
)

func TestWhoActsByATokenIsTheSamePerson(t *testing.T) {
	assert.Equal(t, "Vera", people.Called(people.OfToken("Vera", "nightly (2)")))
	assert.Equal(t, "Vera", people.Called("Vera"))
}

func TestPeopleAreMentionedByTheirNames(t *testing.T) {
	names := []string{"Vera", "Vera Lind", "Marin", "Ödön"}
	for text, who := range map[string][]string{
		"@Vera, please look":                     {"Vera"},
		"@vera lind: the menu? @Marin":           {"Vera Lind", "Marin"},
		"@Veraa and vera@marin.example":          {},
		"(@ödön) @ÖDÖN":                          {"Ödön"},
		"nobody @ all, nor @":                    {},
		"@Marin@Vera":                            {"Marin"},
		"a name of somebody who is not here @Jo": {},
	} {
		assert.Equal(t, who, people.Mentioned(text, names), text)
	}
}
