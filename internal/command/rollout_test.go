package command_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/schedule"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/standin"
	"tidemarker/internal/store"
)

func TestRolloutsOnTheCommandLine(t *testing.T) {
	b := newBench(t)
	c, _ := b.Promoted("Compact", settings.Values{"markup.compact": true, "scripts.deferNot": []any{"/lib.js"}})
	_, _, err := b.as("Vera", people.Approver, "rollout", "begin", "1", "--to", "The hill")
	assert.ErrorContains(t, err, "The hill")
	hill := b.Beside("The hill", standin.Quillet())
	envs := hill.Environments()
	hill.Marked(envs.Staging, envs.Production)
	_, _, err = b.as("Vera", people.Approver, "rollout", "begin", "1", "--to", "The hill")
	assert.ErrorContains(t, err, "What has settled on one site goes on to others")
	ok, err := b.Desk.Store.MoveChange(t.Context(), c.ID, release.Marked, release.Settled, "")
	require.NoError(t, err)
	require.True(t, ok)

	out := b.vera("rollout", "offers", "1")
	assert.Contains(t, out, "The hill")
	assert.Contains(t, out, "codeAfterNot", "what has to be confirmed is named")
	_, _, err = b.as("Vera", people.Approver, "rollout", "begin", "1", "--to", "The hill=first")
	assert.ErrorContains(t, err, `Write --to as “The hill=2”`)
	_, _, err = b.as("Vera", people.Approver, "rollout", "begin", "1", "--to", "The hill", "--confirm", "Elsewhere=x")
	assert.ErrorContains(t, err, "Write --confirm as")
	out = b.vera("rollout", "begin", "1", "--to", "The hill=2", "--confirm", "The hill=codeAfterNot", "--reason", "It did well.")
	assert.Contains(t, out, "Rollout 1 of Compact from Fernhollow: open")
	assert.Contains(t, b.vera("rollout", "list"), "open")
	require.NoError(t, b.server.Rollouts.GoOn(t.Context()))
	changes, err := b.Desk.Store.Changes(t.Context(), hill.ID, 5, 0)
	require.NoError(t, err)
	require.Len(t, changes, 1)
	assert.Equal(t, []any{"/lib.js"}, changes[0].Edits.V["codeAfterNot"])
	_, code, err := b.as("Vera", people.Approver, "rollout", "go", "1")
	assert.ErrorContains(t, err, "No site of wave 2 is clear on staging yet")
	assert.Equal(t, 1, code)
	_, _, err = b.as("Vera", people.Approver, "rollout", "stop", "1")
	assert.ErrorContains(t, err, "Nothing of it is being promoted")
	assert.Contains(t, b.vera("rollout", "skip", "1", "--site", "The hill", "--reason", "Not this month."), "Not this month.")
	require.NoError(t, b.server.Rollouts.GoOn(t.Context()))
	assert.Contains(t, b.vera("rollout", "show", "1"), "ended. 0 of 1 site have it, 1 skipped.")
	_, _, err = b.as("Otto", people.Observer, "rollout", "end", "1")
	assert.Error(t, err)
}

func TestABackupIsRecordedOnTheCommandLineForATidyThatWaits(t *testing.T) {
	b := newBench(t)
	tidy := schedule.Schedule{What: schedule.Tidy, Begins: "2026-11-01T04:00", Zone: "UTC", Rule: "FREQ=MONTHLY", Tidy: &schedule.Again{Change: 1, Most: 5}}
	_, err := b.Desk.Store.NewSchedule(t.Context(), store.Schedule{SiteID: b.ID, Schedule: store.JSON[schedule.Schedule]{V: tidy}, MadeBy: "Vera"}, b.Desk.Now())
	require.NoError(t, err)
	assert.Contains(t, b.vera("schedules", "list", "--site", "Fernhollow"), "FREQ=MONTHLY")
	assert.Contains(t, b.vera("schedules", "record-backup", "--site", "Fernhollow", "--place", "vault, box 9"), "there is a backup of production")
	backed, err := b.Desk.Store.BackedUp(t.Context(), b.Environments().Production.ID)
	require.NoError(t, err)
	assert.True(t, backed)
}
