package api

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

// describeOutside adds to the API's description what other systems call: where events come in, and calls of workflows. They
// are served beside the API, since what they take is not one schema.
func describeOutside(api *huma.OpenAPI) {
	text := &huma.Schema{Type: "string"}
	problem := func(words string) *huma.Response {
		return &huma.Response{Description: words, Content: map[string]*huma.MediaType{"application/problem+json": {Schema: &huma.Schema{Type: "object"}}}}
	}
	path := func(name, words string) *huma.Param {
		return &huma.Param{Name: name, In: "path", Required: true, Description: words, Schema: text}
	}
	header := func(name, words string) *huma.Param {
		return &huma.Param{Name: name, In: "header", Description: words, Schema: text}
	}
	object := &huma.MediaType{Schema: &huma.Schema{Type: "object"}}
	list := &huma.MediaType{Schema: &huma.Schema{Type: "array", Items: &huma.Schema{Type: "object"}}}
	receipts := &huma.Response{Description: "taken in, and kept: whoever hears this need not send it again", Content: map[string]*huma.MediaType{"application/json": {Schema: &huma.Schema{
		Type: "object", Properties: map[string]*huma.Schema{
			"accepted": {Type: "integer"},
			"arrivals": {Type: "array", Items: &huma.Schema{Type: "object", Properties: map[string]*huma.Schema{"seq": {Type: "integer"}, "id": text, "known": {Type: "boolean", Description: "it had come before, and changes nothing"}}}},
		}}}}}
	takeIn := func(id, summary string, params ...*huma.Param) *huma.Operation {
		return &huma.Operation{
			OperationID: id, Method: http.MethodPost, Summary: summary, Tags: []string{"Intake"}, Security: []map[string][]string{},
			Parameters: append(append([]*huma.Param{path("connection", "the hook's short name")}, params...),
				header("webhook-id", "Standard Webhooks: names the request, so that it can be sent again"), header("webhook-timestamp", "Standard Webhooks, where the hook asks for signatures"), header("webhook-signature", "the same")),
			RequestBody: &huma.RequestBody{Required: true, Description: "up to 1 MiB", Content: map[string]*huma.MediaType{
				"application/cloudevents+json": object, "application/cloudevents-batch+json": list, "application/json": {Schema: &huma.Schema{}}, "application/x-www-form-urlencoded": object,
			}},
			Responses: map[string]*huma.Response{
				"202": receipts, "400": problem("what was sent cannot be read; with the place"), "401": problem("the signature was not accepted"), "404": problem("there is no such hook"),
				"413": problem("too large, or too many records without ids of their own"), "415": problem("not a media type that is read"), "503": problem("not now; send it again after Retry-After"),
			},
		}
	}
	api.Paths["/in/{connection}"] = &huma.PathItem{Post: takeIn("take-in", "Take in events: a CloudEvent, or a batch of them")}
	api.Paths["/in/{connection}/{kind}"] = &huma.PathItem{Post: takeIn("take-in-records", "Take in records of a kind, as they are: one, a list, or a form", path("kind", "the second part of the source's name"))}
	api.Paths["/call/{id}"] = &huma.PathItem{Post: &huma.Operation{
		OperationID: "call-workflow", Method: http.MethodPost, Summary: "Call a workflow that is started by calls", Tags: []string{"Intake"}, Security: []map[string][]string{{"call": {}}},
		Parameters:  []*huma.Param{path("id", "the workflow's number"), header("Authorization", "Bearer and the workflow's token"), header("Idempotency-Key", "names the call, so that it can be made again")},
		RequestBody: &huma.RequestBody{Content: map[string]*huma.MediaType{"application/json": object}, Description: "what the sheet takes, by name"},
		Responses:   map[string]*huma.Response{"202": receipts, "401": problem("the token is not this workflow's"), "409": problem("the workflow is off"), "422": problem("an answer is missing or wrong"), "503": problem("not now; call again after Retry-After")},
	}}
	if api.Components.SecuritySchemes == nil {
		api.Components.SecuritySchemes = map[string]*huma.SecurityScheme{}
	}
	api.Components.SecuritySchemes["call"] = &huma.SecurityScheme{Type: "http", Scheme: "bearer"}
}
