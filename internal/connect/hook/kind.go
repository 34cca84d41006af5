package hook

import (
	"context"
	"net/http"
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
)

// Kind describes hooks.
func Kind() *connect.Kind {
	return &connect.Kind{
		Reads: connect.ReadsCalled, Door: connect.DoorEvents, Signs: true,
		Name: "hook", Title: "Hook", Does: "Gives an app an address to send its events to, as CloudEvents, as plain JSON or as a form",
		Settings: []connect.Setting{
			{Name: "signed", Label: "Take in only signed events", Type: "yes/no", Help: "by Standard Webhooks; a secret is made and shown once"},
			{Name: "record", Label: "Where the record lies", Type: "text", Help: "the path to it in what is sent, such as incident or data.items; empty where what is sent is the record itself", More: true},
			{Name: "key_field", Label: "Field that names a record", Type: "text", Default: "id"},
			{Name: "records_address", Label: "Address of the app's records", Type: "address", More: true, Help: "for sheets that add or change records; the kind of record is added to it, such as https://app.example/api"},
			{Name: "records_token", Label: "Token for it", Type: "secret", More: true},
		},
		Source: []connect.Setting{
			{Name: "record", Label: "Where the record lies", Type: "text", Help: "the path to it in what is sent, such as incident or data.items; empty where what is sent is the record itself"},
		},
		Write: write, Writable: writable,
		Key: "id",
	}
}

// writable says whether it is known where records can be changed.
func writable(c connect.Config, src connect.SourceConfig, _ bool) error {
	if c.Settings["records_address"] != "" {
		return nil
	}
	return &fault.Fault{
		Tried: "writing to " + src.Name, Said: "it is not known where this app's records can be changed",
		Do: "give the address of its records in the settings of the connection " + c.ID,
	}
}

// write adds or changes a record by the API that the app has beside its events.
func write(ctx context.Context, c connect.Config, src connect.SourceConfig, w connect.Write) (connect.Written, error) {
	base := c.Settings["records_address"]
	if err := writable(c, src, w.Change); err != nil {
		return connect.Written{Final: true}, err
	}
	auth := http.Header{}
	if token := c.Settings["records_token"]; token != "" {
		auth.Set("Authorization", "Bearer "+token)
	}
	_, kind, _ := strings.Cut(src.Name, "/")
	return connect.WriteHTTP(ctx, c.Env, auth, strings.TrimSuffix(base, "/")+"/"+kind, http.MethodPatch, w)
}
