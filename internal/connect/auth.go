package connect

import (
	"encoding/base64"
	"net/http"
)

// AuthSettings are what is asked for to sign in to something over HTTP.
func AuthSettings() []Setting {
	return []Setting{
		{Name: "auth", Label: "Signs in with", Type: "choice", Options: []string{"nothing", "bearer token", "user and password", "header"}, Default: "nothing"},
		{Name: "token", Label: "Token", Type: "secret", Required: true, When: "auth=bearer token"},
		{Name: "user", Label: "User", Type: "text", Required: true, When: "auth=user and password"},
		{Name: "password", Label: "Password", Type: "secret", When: "auth=user and password"},
		{Name: "header", Label: "Header", Type: "text", Required: true, When: "auth=header", Help: "such as X-Api-Key"},
		{Name: "header_value", Label: "The header's value", Type: "secret", Required: true, When: "auth=header"},
	}
}

// Auth gives the headers that sign in, as AuthSettings asked for them.
func (c Config) Auth() http.Header {
	h := http.Header{}
	switch c.Settings["auth"] {
	case "bearer token":
		h.Set("Authorization", "Bearer "+c.Settings["token"])
	case "user and password":
		h.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(c.Settings["user"]+":"+c.Settings["password"])))
	case "header":
		h.Set(c.Settings["header"], c.Settings["header_value"])
	}
	return h
}
