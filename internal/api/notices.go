package api

import (
	"context"
	"errors"
	"net/http"
	"net/mail"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/gorilla/feeds"

	"tidemarker/internal/core/notice"
	"tidemarker/internal/post"
	"tidemarker/internal/store"
)

// NoticeView is something that somebody is told.
type NoticeView struct {
	ID       int64        `json:"id"`
	Site     int64        `json:"site"`
	SiteName string       `json:"siteName"`
	Topic    notice.Topic `json:"topic" enum:"broken,back,unknown,asked,decided,mentioned,outside,tidied,rollout,settled,finished"`
	Title    string       `json:"title"`
	Text     string       `json:"text"`
	Who      string       `json:"who"`
	Link     string       `json:"link" doc:"Where that is which it tells of, in the application."`
	At       time.Time    `json:"at"`
	Read     bool         `json:"read"`
}

// NoticeList is a page of somebody's notices.
type NoticeList struct {
	Notices []NoticeView `json:"notices" doc:"The latest first."`
	Unread  int          `json:"unread" doc:"Of all."`
	More    bool         `json:"more" doc:"There are earlier ones."`
}

// ChoicesView is how notices reach somebody.
type ChoicesView struct {
	Topics  []notice.About `json:"topics"`
	Choices []ChoiceView   `json:"choices" doc:"What they chose; all else is as the topics say."`
	Mail    string         `json:"mail" doc:"Where mail reaches them; empty: it does not."`
	DailyAt string         `json:"dailyAt" doc:"When the mail of the day comes, by their clock."`
	Zone    string         `json:"zone" doc:"Name of their time zone in the IANA database."`
	Sends   bool           `json:"sends" doc:"There is a mail server; without one, mails wait."`
	Mails   []MailView     `json:"mails" doc:"The latest mails to them."`
	Feed    *AddressView   `json:"feed,omitempty" doc:"The address of their feed, when there is one; its secret is shown once."`
}

// ChoiceView is how a topic reaches somebody.
type ChoiceView struct {
	Site  int64        `json:"site,omitempty" doc:"None: all sites without a choice of their own."`
	Topic notice.Topic `json:"topic" enum:"broken,back,unknown,asked,decided,mentioned,outside,tidied,rollout,settled,finished"`
	How   notice.How   `json:"how" enum:"at once,daily,here,never,default" doc:"at once: by mail, much at a time in one; daily: in the daily mail; here: in the application only; never; default: as for all sites, or as usual for the topic."`
}

// MailView is a mail to somebody.
type MailView struct {
	Made    time.Time  `json:"made"`
	Sent    *time.Time `json:"sent,omitempty"`
	State   string     `json:"state" enum:"to send,sent,failed"`
	Why     string     `json:"why" doc:"The last try did not succeed."`
	Daily   bool       `json:"daily"`
	Notices int        `json:"notices"`
}

const (
	// noticePage is how many notices are listed at once, and feedLength how many a feed has.
	noticePage, feedLength = 50, 50
	mostMails              = 10
	asDefault              = notice.How("default")
)

// noticeOperations registers what people do with notices. Long because it is a list: one registration after the other.
func (s *Server) noticeOperations(api huma.API) {
	tags := []string{"notices"}
	me := func(ctx context.Context) int64 { return callerOf(ctx).person.ID }
	huma.Register(api, huma.Operation{OperationID: "list-notices", Method: http.MethodGet, Path: "/notices", Summary: "The caller's notices", Tags: tags},
		func(ctx context.Context, in *struct {
			Unread bool  `query:"unread" doc:"Only those that they have not read."`
			Before int64 `query:"before" minimum:"0" doc:"Only those before this one."`
		}) (*output[NoticeList], error) {
			return out(s.noticeList(ctx, me(ctx), in.Before, in.Unread))
		})
	huma.Register(api, huma.Operation{OperationID: "read-notices", Method: http.MethodPost, Path: "/notices/read", Summary: "Says that notices were read", Tags: tags, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *struct {
			Body struct {
				UpTo int64 `json:"upTo,omitempty" doc:"All up to this one."`
				Only int64 `json:"only,omitempty" doc:"Just this one."`
			}
		}) (*struct{}, error) {
			return nil, problem(s.Store.ReadNotices(ctx, me(ctx), in.Body.UpTo, in.Body.Only))
		})
	huma.Register(api, huma.Operation{OperationID: "get-notice-choices", Method: http.MethodGet, Path: "/notices/choices", Summary: "How notices reach the caller", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[ChoicesView], error) {
			return out(s.choices(ctx, me(ctx), ""))
		})
	huma.Register(api, huma.Operation{OperationID: "choose-notices", Method: http.MethodPut, Path: "/notices/choices", Summary: "Sets how a topic reaches the caller, for one site or for all", Tags: tags},
		func(ctx context.Context, in *struct{ Body ChoiceView }) (*output[ChoicesView], error) {
			c := store.Choice{Topic: in.Body.Topic, How: in.Body.How}
			if in.Body.Site != 0 {
				c.SiteID = &in.Body.Site
				if _, err := s.Store.Site(ctx, in.Body.Site); err != nil {
					return nil, problem(err)
				}
			}
			if c.How == asDefault {
				c.How = ""
			}
			if err := s.Store.Choose(ctx, me(ctx), c); err != nil {
				return nil, problem(err)
			}
			return out(s.choices(ctx, me(ctx), ""))
		})
	huma.Register(api, huma.Operation{OperationID: "set-notice-reach", Method: http.MethodPut, Path: "/notices/reach", Summary: "Sets where mail reaches the caller, and when the daily mail comes", Tags: tags},
		func(ctx context.Context, in *struct {
			Body struct {
				Mail    string `json:"mail" maxLength:"320"`
				DailyAt string `json:"dailyAt" pattern:"^([01][0-9]|2[0-3]):[0-5][0-9]$"`
				Zone    string `json:"zone" maxLength:"100"`
			}
		}) (*output[ChoicesView], error) {
			if at, err := mail.ParseAddress(in.Body.Mail); in.Body.Mail != "" && (err != nil || at.Address != in.Body.Mail) {
				return nil, huma.Error422UnprocessableEntity("Nothing was saved.", &huma.ErrorDetail{Location: "body.mail", Message: "Write a mail address, as vera@example.org.", Value: in.Body.Mail})
			}
			if _, err := time.LoadLocation(in.Body.Zone); err != nil || in.Body.Zone == "Local" {
				return nil, huma.Error422UnprocessableEntity("Nothing was saved.", &huma.ErrorDetail{Location: "body.zone", Message: "Write the name of a time zone, as Europe/Berlin.", Value: in.Body.Zone})
			}
			if err := s.Store.SaveReach(ctx, me(ctx), store.Reach{Mail: in.Body.Mail, DailyAt: in.Body.DailyAt, Zone: in.Body.Zone}); err != nil {
				return nil, problem(err)
			}
			return out(s.choices(ctx, me(ctx), ""))
		})
	huma.Register(api, huma.Operation{OperationID: "make-feed", Method: http.MethodPost, Path: "/notices/feed", Summary: "Creates a secret address of the caller's feed; an earlier one no longer works", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, _ *struct{}) (*output[ChoicesView], error) {
			secret, err := s.Store.NewFeed(ctx, me(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.choices(ctx, me(ctx), "/feeds/"+secret+".xml"))
		})
	huma.Register(api, huma.Operation{OperationID: "remove-feed", Method: http.MethodDelete, Path: "/notices/feed", Summary: "Removes the address of the caller's feed", Tags: tags, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, _ *struct{}) (*struct{}, error) {
			_, err := s.Store.RemoveFeed(ctx, me(ctx))
			return nil, problem(err)
		})
}

func (s *Server) noticeList(ctx context.Context, person, before int64, unread bool) (NoticeList, error) {
	list := NoticeList{Notices: []NoticeView{}}
	rows, err := s.Store.NoticesOf(ctx, person, before, unread, noticePage+1)
	if err != nil {
		return list, err
	}
	list.More = len(rows) > noticePage
	for _, n := range rows[:min(len(rows), noticePage)] {
		list.Notices = append(list.Notices, NoticeView{ID: n.ID, Site: n.SiteID, SiteName: n.SiteName, Topic: n.Topic, Title: notice.Title(n.Text), Text: n.Text, Who: n.Who, Link: post.Link(n.Notice), At: n.At, Read: n.ReadAt != nil})
	}
	list.Unread, err = s.Store.Unread(ctx, person)
	return list, err
}

// choices is how notices reach somebody; address is the one of a feed that was just made.
func (s *Server) choices(ctx context.Context, person int64, address string) (ChoicesView, error) {
	v := ChoicesView{Topics: notice.Topics, Choices: []ChoiceView{}, Mails: []MailView{}, Sends: s.Post.Mail != nil}
	reach, err := s.Store.ReachOf(ctx, person)
	if err != nil {
		return v, err
	}
	v.Mail, v.DailyAt, v.Zone = reach.Mail, reach.DailyAt, reach.Zone
	chosen, err := s.Store.Choices(ctx, person)
	if err != nil {
		return v, err
	}
	for _, c := range chosen {
		v.Choices = append(v.Choices, ChoiceView{Site: orZero(c.SiteID), Topic: c.Topic, How: c.How})
	}
	mails, err := s.Store.MailsOf(ctx, person, mostMails)
	if err != nil {
		return v, err
	}
	for _, m := range mails {
		v.Mails = append(v.Mails, MailView{Made: m.MadeAt, Sent: m.SentAt, State: m.State, Why: m.Why, Daily: m.Daily, Notices: m.Notices})
	}
	f, err := s.Store.FeedOf(ctx, person)
	if errors.Is(err, store.ErrNotFound) {
		return v, nil
	}
	v.Feed = &AddressView{MadeAt: f.MadeAt, UsedAt: f.UsedAt, Address: address}
	return v, err
}

// feedRoutes is the address of somebody's feed. Nobody signs in there: who knows the secret may read what that person is told.
func (s *Server) feedRoutes(r chi.Router) {
	r.Get("/feeds/{secret}.xml", func(w http.ResponseWriter, r *http.Request) {
		f, err := s.Store.UseFeed(r.Context(), chi.URLParam(r, "secret"))
		if errors.Is(err, store.ErrNotFound) {
			http.Error(w, "There is no such feed. Its address may have been replaced.", http.StatusNotFound)
			return
		}
		var text string
		if err == nil {
			text, err = s.feed(r.Context(), f)
		}
		if err != nil {
			s.Log.Error("a feed could not be served", "why", err)
			http.Error(w, "The feed cannot be read now. Ask again later.", http.StatusServiceUnavailable)
			return
		}
		w.Header().Set("Content-Type", "application/atom+xml; charset=utf-8")
		w.Header().Set("Cache-Control", "private, no-store")
		_, _ = w.Write([]byte(text))
	})
}

// feed is somebody's notices as an Atom feed (RFC 4287).
func (s *Server) feed(ctx context.Context, f store.Feed) (string, error) {
	rows, err := s.Store.NoticesOf(ctx, f.PersonID, 0, false, feedLength)
	if err != nil {
		return "", err
	}
	base := s.Post.Base
	out := &feeds.Feed{Title: "Tide Marker: notices", Id: "urn:tidemarker:notices:" + f.MadeAt.UTC().Format("20060102T150405.000000"), Link: &feeds.Link{Href: base + "/notices"}, Updated: f.MadeAt.UTC()}
	for _, n := range rows {
		i := s.Post.Item(n)
		if n.At.After(out.Updated) {
			out.Updated = n.At.UTC()
		}
		about, _ := notice.Of(n.Topic)
		out.Items = append(out.Items, &feeds.Item{Title: i.Site + ": " + i.Title, Id: out.Id + ":" + n.At.UTC().Format("20060102T150405.000000"), Link: &feeds.Link{Href: i.Link}, Created: n.At.UTC(), Updated: n.At.UTC(), Description: about.Text + ". " + n.Text})
	}
	return out.ToAtom()
}
