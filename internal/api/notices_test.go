package api_test

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/mmcdole/gofeed"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/people"
	"tidemarker/internal/store"
)

func TestNoticesAreReadChosenAndFed(t *testing.T) {
	r := newRecord(t)
	ctx := t.Context()
	veraID := addPerson(t, r.store, "Vera", people.Approver)
	vera := r.visitor(tokenOf(t, r.store, veraID, people.Approver))
	tell := func(topic notice.Topic, text string) {
		require.NoError(t, r.store.Record(ctx, store.Event{SiteID: 1, Kind: "change", Who: "Marin", Topic: topic, Text: text}))
		_, err := r.store.HandOut(ctx, time.Now())
		require.NoError(t, err)
	}
	var c api.ChoicesView
	status, text := vera.ask(http.MethodPut, "/notices/choices", map[string]any{"topic": "settled", "how": "never"}, &c)
	require.Equal(t, http.StatusOK, status, text)
	assert.Equal(t, []api.ChoiceView{{Topic: notice.Settled, How: notice.Never}}, c.Choices)
	assert.False(t, c.Sends, "there is no mail server here, and that is said")
	for _, about := range notice.Topics {
		status, text := vera.ask(http.MethodPut, "/notices/choices", map[string]any{"topic": about.Topic, "how": "here"}, nil)
		assert.Equal(t, http.StatusOK, status, "%s: %s", about.Topic, text)
		status, text = vera.ask(http.MethodPut, "/notices/choices", map[string]any{"topic": about.Topic, "how": "default"}, nil)
		assert.Equal(t, http.StatusOK, status, "%s: %s", about.Topic, text)
	}
	status, text = vera.ask(http.MethodPut, "/notices/choices", map[string]any{"topic": "settled", "how": "never"}, nil)
	require.Equal(t, http.StatusOK, status, text)
	status, text = vera.ask(http.MethodPut, "/notices/choices", map[string]any{"topic": "weather", "how": "never"}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status, text)
	status, _ = vera.ask(http.MethodPut, "/notices/choices", map[string]any{"topic": "settled", "how": "daily", "site": 999}, nil)
	assert.Equal(t, http.StatusNotFound, status)
	for field, wrong := range map[string]map[string]any{"body.mail": {"mail": "Vera <vera@example.org>", "dailyAt": "08:00", "zone": "UTC"}, "body.zone": {"mail": "", "dailyAt": "08:00", "zone": "Here"}, "body.dailyAt": {"mail": "", "dailyAt": "8", "zone": "UTC"}} {
		status, text := vera.ask(http.MethodPut, "/notices/reach", wrong, nil)
		assert.Equal(t, http.StatusUnprocessableEntity, status)
		assert.Contains(t, text, field)
	}
	status, text = vera.ask(http.MethodPut, "/notices/reach", map[string]any{"mail": "vera@example.org", "dailyAt": "07:30", "zone": "Europe/Vienna"}, &c)
	require.Equal(t, http.StatusOK, status, text)
	assert.Equal(t, "07:30", c.DailyAt)

	tell(notice.Settled, "“Lazy” is settled.")
	tell(notice.Broken, "Checked production. <b>Broken</b>: buying does not work.")
	var list api.NoticeList
	status, text = vera.ask(http.MethodGet, "/notices", nil, &list)
	require.Equal(t, http.StatusOK, status, text)
	require.Len(t, list.Notices, 1, "of what she wants nothing of she is told nothing")
	assert.Equal(t, "Checked production", list.Notices[0].Title)
	assert.Equal(t, "/sites/1", list.Notices[0].Link)

	var made api.ChoicesView
	status, text = vera.ask(http.MethodPost, "/notices/feed", nil, &made)
	require.Equal(t, http.StatusCreated, status, text)
	fetch := func(address string) (int, string) {
		res, err := http.Get(r.url + address)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		raw, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(raw)
	}
	status, xml := fetch(made.Feed.Address)
	require.Equal(t, http.StatusOK, status)
	feed, err := gofeed.NewParser().ParseString(xml)
	require.NoError(t, err)
	assert.Equal(t, "atom", feed.FeedType)
	require.Len(t, feed.Items, 1)
	assert.Contains(t, feed.Items[0].Title, "Checked production")
	assert.NotContains(t, xml, "<b>Broken</b>", "what a site says is text")
	status, text = vera.ask(http.MethodGet, "/notices/choices", nil, &c)
	require.Equal(t, http.StatusOK, status)
	assert.NotNil(t, c.Feed.UsedAt)
	assert.NotContains(t, text, strings.TrimSuffix(strings.TrimPrefix(made.Feed.Address, "/feeds/"), ".xml"), "its secret is shown once")
	_, _ = vera.ask(http.MethodPost, "/notices/feed", nil, &c)
	status, _ = fetch(made.Feed.Address)
	assert.Equal(t, http.StatusNotFound, status, "it was replaced")
	require.NoError(t, r.store.SavePerson(ctx, veraID, people.Approver, true))
	status, _ = fetch(c.Feed.Address)
	assert.Equal(t, http.StatusNotFound, status, "who is kept out reads no feed")
	require.NoError(t, r.store.SavePerson(ctx, veraID, people.Approver, false))

	vera = r.visitor(tokenOf(t, r.store, veraID, people.Approver))
	status, _ = vera.ask(http.MethodPost, "/notices/read", map[string]any{"upTo": list.Notices[0].ID}, nil)
	require.Equal(t, http.StatusNoContent, status)
	status, _ = vera.ask(http.MethodGet, "/notices?unread=true", nil, &list)
	require.Equal(t, http.StatusOK, status)
	assert.Empty(t, list.Notices)
	assert.Equal(t, 0, list.Unread)
}

func TestWebhooksAreAnAdministrators(t *testing.T) {
	r := newRecord(t)
	ada := r.visitor(tokenOf(t, r.store, addPerson(t, r.store, "Ida", people.Administrator), people.Administrator))
	vera := r.visitor(tokenOf(t, r.store, addPerson(t, r.store, "Vera", people.Approver), people.Administrator))
	status, _ := vera.ask(http.MethodGet, "/webhooks", nil, nil)
	assert.Equal(t, http.StatusForbidden, status)
	status, text := ada.ask(http.MethodPost, "/webhooks", map[string]any{"address": "ftp://example.org"}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, "begins with https://")
	var w api.WebhookView
	status, text = ada.ask(http.MethodPost, "/webhooks", map[string]any{"address": "https://example.org/hook", "topics": []string{"broken"}}, &w)
	require.Equal(t, http.StatusCreated, status, text)
	secret := w.Secret
	assert.True(t, strings.HasPrefix(secret, "whsec_"))
	at := fmt.Sprintf("/webhooks/%d", w.ID)
	status, text = ada.ask(http.MethodPut, at, map[string]any{"address": "https://example.org/other", "version": w.Version, "paused": true}, &w)
	require.Equal(t, http.StatusOK, status, text)
	assert.True(t, w.Paused)
	assert.Empty(t, w.Topics)
	status, _ = ada.ask(http.MethodPut, at, map[string]any{"address": "https://example.org/other", "version": w.Version - 1}, nil)
	assert.Equal(t, http.StatusConflict, status)
	status, text = ada.ask(http.MethodGet, "/webhooks", nil, nil)
	require.Equal(t, http.StatusOK, status)
	assert.NotContains(t, text, secret, "it is shown once")
	row, err := r.store.Webhook(t.Context(), w.ID)
	require.NoError(t, err)
	kept, err := r.store.WebhookSecret(row)
	require.NoError(t, err)
	assert.Equal(t, secret, kept)
	var renewed api.WebhookView
	status, _ = ada.ask(http.MethodPost, at+"/secret", nil, &renewed)
	require.Equal(t, http.StatusOK, status)
	assert.NotEqual(t, secret, renewed.Secret)

	require.NoError(t, r.store.Record(t.Context(), store.Event{SiteID: 1, Kind: "change", Who: "Marin", Topic: notice.Broken, Text: "Broken."}))
	status, _ = ada.ask(http.MethodPut, at, map[string]any{"address": "https://example.org/other", "version": renewed.Version, "paused": false}, &w)
	require.Equal(t, http.StatusOK, status)
	_, err = r.store.HandOut(t.Context(), time.Now())
	require.NoError(t, err)
	d, err := r.store.TakeDelivery(t.Context(), time.Now(), time.Minute)
	require.NoError(t, err)
	d.State, d.Status, d.Answer = "failed", 500, "because"
	require.NoError(t, r.store.DeliveryDone(t.Context(), d))
	var list api.DeliveryList
	status, text = ada.ask(http.MethodGet, at+"/deliveries", nil, &list)
	require.Equal(t, http.StatusOK, status, text)
	require.Len(t, list.Deliveries, 1)
	assert.Equal(t, 500, list.Deliveries[0].Status)
	status, _ = ada.ask(http.MethodPost, fmt.Sprintf("/deliveries/%d/again", d.ID), nil, nil)
	require.Equal(t, http.StatusNoContent, status)
	status, _ = ada.ask(http.MethodGet, at+"/deliveries", nil, &list)
	require.Equal(t, http.StatusOK, status)
	assert.Equal(t, "to send", list.Deliveries[0].State)
	status, _ = ada.ask(http.MethodDelete, at, nil, nil)
	assert.Equal(t, http.StatusNoContent, status)
	status, _ = ada.ask(http.MethodGet, at+"/deliveries", nil, nil)
	assert.Equal(t, http.StatusNotFound, status)
}
