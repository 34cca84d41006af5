package hook

import "dorfbote/internal/connect"

// Kind describes hooks.
func Kind() *connect.Kind {
	return &connect.Kind{
		Name: "hook", Title: "Hook", Does: "Gives an app an address to send its events to, as CloudEvents, as plain JSON or as a form",
		Settings: []connect.Setting{
			{Name: "signed", Label: "Take in only signed events", Type: "yes/no", Help: "by Standard Webhooks; a secret is made and shown once"},
			{Name: "key_field", Label: "Field that names a record", Type: "text", Default: "id"},
		},
		Key: "id",
	}
}
