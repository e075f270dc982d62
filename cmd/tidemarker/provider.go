package main

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"tidemarker/internal/api"
	"tidemarker/internal/core/people"
)

// Where people may sign in instead, by OpenID Connect. Without an issuer there is no such place.
const (
	issuerVariable   = "TIDEMARKER_OIDC_ISSUER"
	clientVariable   = "TIDEMARKER_OIDC_CLIENT"
	clientSecret     = "TIDEMARKER_OIDC_SECRET"      //nolint:gosec // the name of a variable
	clientSecretFile = "TIDEMARKER_OIDC_SECRET_FILE" //nolint:gosec // the name of a variable
	providerName     = "TIDEMARKER_OIDC_NAME"
	claimVariable    = "TIDEMARKER_OIDC_CLAIM"
	rolesVariable    = "TIDEMARKER_OIDC_ROLES"
	scopesVariable   = "TIDEMARKER_OIDC_SCOPES"
)

// providerOf is the provider that the variables name; nil when they name none.
func providerOf(get func(string) string) (*api.Provider, error) {
	p := &api.Provider{Issuer: get(issuerVariable), ClientID: get(clientVariable), Name: get(providerName), Claim: get(claimVariable), Scopes: strings.Fields(get(scopesVariable)), Roles: map[string]people.Role{}}
	if p.Issuer == "" {
		return nil, nil
	}
	at, err := url.Parse(p.Issuer)
	if err != nil || at.Host == "" || at.Scheme != "https" && at.Hostname() != "localhost" && at.Hostname() != "127.0.0.1" {
		return nil, fmt.Errorf("%s is %q; it is the HTTPS address of a provider", issuerVariable, p.Issuer)
	}
	if p.ClientID == "" {
		return nil, fmt.Errorf("%s is missing: the provider's name for Tide Marker", clientVariable)
	}
	if p.ClientSecret, err = secretOf(get, clientSecret, clientSecretFile); err != nil {
		return nil, err
	}
	if p.Name == "" {
		p.Name = at.Hostname()
	}
	if p.Claim == "" {
		p.Claim = "groups"
	}
	var wrong []error
	for _, pair := range strings.Split(get(rolesVariable), ",") {
		pair = strings.TrimSpace(pair)
		value, role, there := strings.Cut(pair, "=")
		switch {
		case pair == "":
		case !there || !people.Role(role).Known():
			wrong = append(wrong, fmt.Errorf("%s has %q; write such as web-team=maintainer,leads=approver. There are: observer, maintainer, approver, administrator", rolesVariable, pair))
		default:
			p.Roles[value] = people.Role(role)
		}
	}
	if len(p.Roles) == 0 && len(wrong) == 0 {
		wrong = append(wrong, fmt.Errorf("%s is missing: which role each value of the claim %q gives, such as web-team=maintainer", rolesVariable, p.Claim))
	}
	return p, errors.Join(wrong...)
}

// secretOf is what stands in the file that a variable names, or else in another variable.
func secretOf(get func(string) string, variable, fileVariable string) (string, error) {
	file := get(fileVariable)
	if file == "" {
		return get(variable), nil
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("%s: %w", fileVariable, err)
	}
	return strings.TrimSpace(string(raw)), nil
}
