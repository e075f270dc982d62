package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/notice"
	"tidemarker/internal/post"
	"tidemarker/internal/store"
)

// WebhookView is an address to which notices are sent.
type WebhookView struct {
	ID      int64          `json:"id"`
	Site    int64          `json:"site,omitempty" doc:"None: of all sites."`
	Address string         `json:"address"`
	Topics  []notice.Topic `json:"topics" enum:"broken,back,unknown,asked,decided,mentioned,outside,tidied,rollout,settled,finished" doc:"None: all."`
	Paused  bool           `json:"paused" doc:"Nothing is sent; what happens in between is not sent later, and what was to be sent waits."`
	Version int            `json:"version" doc:"Give it back when editing."`
	MadeBy  string         `json:"madeBy"`
	MadeAt  time.Time      `json:"madeAt"`
	Secret  string         `json:"secret,omitempty" doc:"What deliveries are signed with, only when it has just been made."`
}

// WebhookWords is what can be said of a webhook.
type WebhookWords struct {
	Site    int64          `json:"site,omitempty" minimum:"0" doc:"None: of all sites."`
	Address string         `json:"address" minLength:"1" maxLength:"2000"`
	Topics  []notice.Topic `json:"topics,omitempty" maxItems:"20" enum:"broken,back,unknown,asked,decided,mentioned,outside,tidied,rollout,settled,finished" doc:"None: all."`
	Paused  bool           `json:"paused,omitempty"`
}

func (w WebhookWords) row(id int64, who string) store.Webhook {
	row := store.Webhook{ID: id, Address: w.Address, Topics: store.JSON[[]notice.Topic]{V: w.Topics}, Paused: w.Paused, MadeBy: who}
	if w.Site != 0 {
		row.SiteID = &w.Site
	}
	return row
}

// DeliveryView is a notice that is sent to a webhook.
type DeliveryView struct {
	ID       int64        `json:"id"`
	Topic    notice.Topic `json:"topic" enum:"broken,back,unknown,asked,decided,mentioned,outside,tidied,rollout,settled,finished"`
	SiteName string       `json:"siteName"`
	Text     string       `json:"text"`
	State    string       `json:"state" enum:"to send,delivered,failed"`
	Tries    int          `json:"tries"`
	Status   int          `json:"status" doc:"Of the last answer; 0: there was none."`
	Answer   string       `json:"answer" doc:"Its first part, or why there was none."`
	Tried    *time.Time   `json:"tried,omitempty"`
	Next     *time.Time   `json:"next,omitempty" doc:"When it is tried again."`
}

// DeliveryList is a page of deliveries.
type DeliveryList struct {
	Deliveries []DeliveryView `json:"deliveries" doc:"The latest first."`
	More       bool           `json:"more"`
}

// webhookOperations registers what is done to webhooks. Long because it is a list: one registration after the other.
func (s *Server) webhookOperations(api huma.API) {
	tags := []string{"webhooks"}
	huma.Register(api, huma.Operation{OperationID: "list-webhooks", Method: http.MethodGet, Path: "/webhooks", Summary: "Addresses to which notices are sent", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[[]WebhookView], error) {
			rows, err := s.Store.Webhooks(ctx)
			views := []WebhookView{}
			for _, w := range rows {
				views = append(views, webhookView(w))
			}
			return out(views, err)
		})
	huma.Register(api, huma.Operation{OperationID: "add-webhook", Method: http.MethodPost, Path: "/webhooks", Summary: "Has notices sent to an address, signed as the Standard Webhooks specification says", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct{ Body WebhookWords }) (*output[WebhookView], error) {
			if err := s.checkWebhook(ctx, in.Body); err != nil {
				return nil, err
			}
			row := in.Body.row(0, who(ctx))
			row.Secret = post.NewSecret()
			id, err := s.Store.NewWebhook(ctx, row)
			if err != nil {
				return nil, problem(err)
			}
			return out(s.webhookByID(ctx, id, row.Secret))
		})
	huma.Register(api, huma.Operation{OperationID: "edit-webhook", Method: http.MethodPut, Path: "/webhooks/{id}", Summary: "Edits a webhook, or pauses it", Description: "409 when somebody else edited it since the version given.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				WebhookWords
				Version int `json:"version"`
			}
		}) (*output[WebhookView], error) {
			if err := s.checkWebhook(ctx, in.Body.WebhookWords); err != nil {
				return nil, err
			}
			if _, err := s.Store.Webhook(ctx, in.ID); err != nil {
				return nil, problem(err)
			}
			ok, err := s.Store.EditWebhook(ctx, in.Body.row(in.ID, ""), in.Body.Version)
			if err == nil && !ok {
				return nil, huma.Error409Conflict("Somebody else edited this webhook just now. Load it again.")
			}
			if err != nil {
				return nil, problem(err)
			}
			return out(s.webhookByID(ctx, in.ID, ""))
		})
	huma.Register(api, huma.Operation{OperationID: "renew-webhook-secret", Method: http.MethodPost, Path: "/webhooks/{id}/secret", Summary: "Gives a webhook another secret; the earlier one no longer signs anything", Tags: tags, DefaultStatus: http.StatusOK},
		func(ctx context.Context, in *ByID) (*output[WebhookView], error) {
			secret := post.NewSecret()
			ok, err := s.Store.RenewWebhook(ctx, in.ID, secret)
			if err == nil && !ok {
				err = store.ErrNotFound
			}
			if err != nil {
				return nil, problem(err)
			}
			return out(s.webhookByID(ctx, in.ID, secret))
		})
	huma.Register(api, huma.Operation{OperationID: "remove-webhook", Method: http.MethodDelete, Path: "/webhooks/{id}", Summary: "Removes a webhook, with what it was sent", Tags: tags, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			_, err := s.Store.RemoveWebhook(ctx, in.ID)
			return nil, problem(err)
		})
	huma.Register(api, huma.Operation{OperationID: "list-deliveries", Method: http.MethodGet, Path: "/webhooks/{id}/deliveries", Summary: "What a webhook was sent, and what it answered", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Before int64 `query:"before" minimum:"0" doc:"Only those before this one."`
		}) (*output[DeliveryList], error) {
			return out(s.deliveries(ctx, in.ID, in.Before))
		})
	huma.Register(api, huma.Operation{OperationID: "send-again", Method: http.MethodPost, Path: "/deliveries/{id}/again", Summary: "Sends something to a webhook once more", Tags: tags, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if _, err := s.Store.WebhookOf(ctx, in.ID); err != nil {
				return nil, problem(err)
			}
			_, err := s.Store.SendAgain(ctx, in.ID, time.Now())
			return nil, problem(err)
		})
}

func (s *Server) checkWebhook(ctx context.Context, w WebhookWords) error {
	if err := post.CheckAddress(w.Address); err != nil {
		return huma.Error422UnprocessableEntity("Nothing was saved.", &huma.ErrorDetail{Location: "body.address", Message: err.Error() + "."})
	}
	if w.Site != 0 {
		if _, err := s.Store.Site(ctx, w.Site); err != nil {
			return problem(err)
		}
	}
	return nil
}

func (s *Server) webhookByID(ctx context.Context, id int64, secret string) (WebhookView, error) {
	w, err := s.Store.Webhook(ctx, id)
	v := webhookView(w)
	v.Secret = secret
	return v, err
}

func webhookView(w store.Webhook) WebhookView {
	return WebhookView{ID: w.ID, Site: orZero(w.SiteID), Address: w.Address, Topics: append([]notice.Topic{}, w.Topics.V...), Paused: w.Paused, Version: w.Version, MadeBy: w.MadeBy, MadeAt: w.MadeAt}
}

func (s *Server) deliveries(ctx context.Context, webhook, before int64) (DeliveryList, error) {
	list := DeliveryList{Deliveries: []DeliveryView{}}
	if _, err := s.Store.Webhook(ctx, webhook); err != nil {
		return list, err
	}
	rows, err := s.Store.Deliveries(ctx, webhook, before, noticePage+1)
	list.More = len(rows) > noticePage
	for _, d := range rows[:min(len(rows), noticePage)] {
		v := DeliveryView{ID: d.ID, Topic: d.Topic, SiteName: d.SiteName, Text: d.Text, State: d.State, Tries: d.Tries, Status: d.Status, Answer: d.Answer, Tried: d.TriedAt}
		if d.State == "to send" {
			v.Next = &d.NextAt
		}
		list.Deliveries = append(list.Deliveries, v)
	}
	return list, err
}
