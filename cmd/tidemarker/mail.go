package main

import (
	"cmp"
	"fmt"

	"tidemarker/internal/post"
)

// The variables that say how mail is sent.
const (
	mailVariable     = "TIDEMARKER_MAIL"
	mailFile         = "TIDEMARKER_MAIL_FILE"
	mailFromVariable = "TIDEMARKER_MAIL_FROM"
)

// mailOf is the mail server that the variables name; nil when they name none, so that mails wait.
func mailOf(get func(string) string) (*post.Server, error) {
	if get(mailVariable) == "" && get(mailFile) == "" {
		return nil, nil
	}
	address, err := secretOf(get, mailVariable, mailFile)
	if err != nil {
		return nil, err
	}
	s, err := post.NewServer(address, cmp.Or(get(mailFromVariable), "Tide Marker <tidemarker@localhost>"))
	if err != nil {
		return nil, fmt.Errorf("%s and %s: %w", mailVariable, mailFromVariable, err)
	}
	return s, nil
}
