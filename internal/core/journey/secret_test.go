package journey

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func filled(label, value string, secret bool) Step {
	return Step{Fill: &Input{In: Target{Label: label}, Value: value, Secret: secret}}
}

func TestWhatGoesIntoAFieldForAPasswordIsNeverSaid(t *testing.T) {
	for label, want := range map[string]bool{"Password": true, "Your pass phrase": true, "Passwort": true, "Mot de passe": true, "PIN": true, "Name": false, "Shipping": false, "Opinion": false, "Compass": false} {
		steps := MarkSensitive([]Step{filled(label, "hush hush", false)})
		assert.Equal(t, want, steps[0].Fill.Secret, label)
		said := steps[0].String()
		if want {
			assert.NotContains(t, said, "hush", label)
		} else {
			assert.Contains(t, said, "hush", label)
		}
	}
	byType := MarkSensitive([]Step{{Fill: &Input{In: Target{CSS: "input[type='password']"}, Value: "hush hush"}}})
	assert.True(t, byType[0].Fill.Secret)
	assert.Contains(t, filled("Word of the day", "hush hush", false).Kept().String(), Untold)
}

func TestASecretThatWentOutUntoldIsRecalled(t *testing.T) {
	before := []Step{{Go: "/in"}, filled("Name", "wren", false), filled("Password", "one", true), filled("Again", "two", true), filled("Again", "three", true)}
	out := Redacted(before)
	assert.Equal(t, "one", before[2].Fill.Value, "the steps given stay as they are")
	assert.Equal(t, []string{"the field “Password”", "the field “Again”", "the field “Again”"}, Lacking(out))
	assert.Equal(t, "wren", out[1].Fill.Value)
	assert.Equal(t, before, WithSecretsFrom(out, before))

	out[2] = filled("Password", "another", true)
	assert.Equal(t, "another", WithSecretsFrom(out, before)[2].Fill.Value, "what is told anew holds")
	assert.Equal(t, "three", WithSecretsFrom(out, before)[4].Fill.Value, "fields called the same are told apart by their order")
	out[2] = filled("Pass code", "", true)
	assert.Equal(t, []string{"the field “Pass code”"}, Lacking(WithSecretsFrom(out, before)), "another field's is not taken")
}

func TestSecretsAreTakenOutOfWhatASiteSends(t *testing.T) {
	secrets := []string{"harvest moon", "on"}
	assert.Equal(t, "/in?p="+Untold+"&on=1", Redact("/in?p=harvest+moon&on=1", secrets), "what is too short is in everything")
	assert.Equal(t, "/in/"+Untold, Redact("/in/harvest%20moon", secrets))
	assert.Equal(t, "“"+Untold+"” is not right", Redact("“harvest moon” is not right", secrets))
}
