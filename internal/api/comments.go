package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/store"
)

// CommentView is what somebody said about a change, a run or a finding.
type CommentView struct {
	ID       int64     `json:"id"`
	Text     string    `json:"text"`
	Mentions []string  `json:"mentions" doc:"Names of people that it mentions with an @."`
	Who      string    `json:"who"`
	At       time.Time `json:"at"`
	Run      *int64    `json:"run,omitempty"`
	Finding  *int64    `json:"finding,omitempty"`
}

type commentBody struct {
	Body struct {
		Text string `json:"text" minLength:"1" maxLength:"4000" doc:"An @ before somebody's name mentions them."`
	}
}

func (s *Server) commentOperations(api huma.API) {
	tags := []string{"comments"}
	say := func(ctx context.Context, c store.Comment, text string) (*struct{}, error) {
		c.Text, c.Who = text, who(ctx)
		return nil, problem(s.Changes.Comment(ctx, c))
	}
	huma.Register(api, huma.Operation{OperationID: "list-change-comments", Method: http.MethodGet, Path: "/changes/{id}/comments", Summary: "What was said about a change, its runs and their findings, in order", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[[]CommentView], error) {
			return out(s.comments(ctx, in.ID, 0))
		})
	huma.Register(api, huma.Operation{OperationID: "list-run-comments", Method: http.MethodGet, Path: "/runs/{id}/comments", Summary: "What was said about a run and its findings, in order", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[[]CommentView], error) {
			return out(s.comments(ctx, 0, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "comment-on-change", Method: http.MethodPost, Path: "/changes/{id}/comments", Summary: "Says something about a change; when an approver has asked something it is the answer", Tags: tags, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *struct {
			ByID
			commentBody
		}) (*struct{}, error) {
			c, err := s.Store.Change(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			return say(ctx, store.Comment{SiteID: c.SiteID, ChangeID: &c.ID}, in.Body.Text)
		})
	huma.Register(api, huma.Operation{OperationID: "comment-on-run", Method: http.MethodPost, Path: "/runs/{id}/comments", Summary: "Says something about a run", Tags: tags, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *struct {
			ByID
			commentBody
		}) (*struct{}, error) {
			r, err := s.Store.Run(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			return say(ctx, store.Comment{SiteID: r.SiteID, RunID: &r.ID}, in.Body.Text)
		})
	huma.Register(api, huma.Operation{OperationID: "comment-on-finding", Method: http.MethodPost, Path: "/findings/{id}/comments", Summary: "Says something about a finding", Tags: tags, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *struct {
			ByID
			commentBody
		}) (*struct{}, error) {
			f, err := s.Store.Finding(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			r, err := s.Store.Run(ctx, f.RunID)
			if err != nil {
				return nil, problem(err)
			}
			return say(ctx, store.Comment{SiteID: r.SiteID, RunID: &r.ID, FindingID: &f.ID}, in.Body.Text)
		})
}

func (s *Server) comments(ctx context.Context, change, run int64) ([]CommentView, error) {
	rows, err := s.Store.CommentsOn(ctx, change, run)
	list := []CommentView{}
	for _, c := range rows {
		list = append(list, CommentView{c.ID, c.Text, c.Mentions.V, c.Who, c.At, c.RunID, c.FindingID})
	}
	return list, err
}
