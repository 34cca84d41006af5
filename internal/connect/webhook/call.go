package webhook

import (
	"bytes"
	"context"
	"fmt"
	"mime/multipart"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/message"
)

// able says what a webhook can do, which depends on what its settings say of the other side.
func able(settings map[string]string) []connect.Ability {
	can := []connect.Ability{}
	add := func(a connect.Ability, so bool) {
		if so {
			can = append(can, a)
		}
	}
	own := settings["shape"] == ownShape
	names := func(part string) bool { return own && strings.Contains(settings["body"], part) }
	add(connect.CanEdit, settings["edit_address"] != "")
	add(connect.CanReply, settings["reply_address"] != "" || names("post.under"))
	add(connect.CanSender, names("post.sender"))
	add(connect.CanPicture, names("post.picture"))
	marks, err := message.ReadMarks(settings["own_marks"])
	add(connect.CanMention, names("post.mentions") || settings["marks"] == ownMarks && err == nil && marks.Mention != "")
	return can
}

// PerMinute is how many posts a minute one place takes, by the settings.
func (w *webhook) PerMinute() int { return w.pace }

// Draft gives what would be sent for a post. A picture that would be handed over before is named by its address here.
func (w *webhook) Draft(ctx context.Context, p connect.Post) (call, sent string, err error) {
	i := slices.IndexFunc(w.places, func(o known) bool { return o.name == p.Place })
	if i < 0 {
		return "", "", fmt.Errorf("there is no place %s", p.Place)
	}
	body, media, err := w.body(ctx, p, "", false)
	if err != nil {
		return "", "", err
	}
	return w.config.Get("method", http.MethodPost) + " " + hostOf(w.places[i].address) + "\nContent-Type: " + media, connect.Without(connect.KeptSent(body), w.config.Settings["body_secret"]), nil
}

// body makes the body of a post's call. handed says whether a picture is handed over first, where the other side wants it so.
func (w *webhook) body(ctx context.Context, p connect.Post, under string, handed bool) (body []byte, media string, err error) {
	post := connect.Seen(p, w.marks, w.longest)
	post["under"], post["secret"] = under, w.config.Settings["body_secret"]
	var picture *connect.Picture
	if p.Doc.Picture != nil && (w.as == asParts || handed && w.config.Settings["picture_address"] != "") {
		if pic, err := connect.PictureOf(ctx, w.config.Env, p.Doc.Picture); err == nil {
			picture = pic // else the picture's own address has to do
		}
	}
	if picture != nil && w.config.Settings["picture_address"] != "" {
		if name, err := w.Upload(ctx, p.Place, picture.Media, picture.Data); err == nil {
			post["picture"], picture = name, nil
		}
	}
	return bodyOf(w.shape, w.as, post, picture)
}

// Upload hands a picture over, and gives what the post names it by.
func (w *webhook) Upload(ctx context.Context, place, media string, picture []byte) (string, error) {
	address := strings.ReplaceAll(w.config.Settings["picture_address"], "{place}", url.PathEscape(place))
	var b bytes.Buffer
	form := multipart.NewWriter(&b)
	ending := ".png"
	if media == "image/jpeg" {
		ending = ".jpg"
	}
	if err := pictureInto(form, w.config.Get("picture_field", "file"), &connect.Picture{Media: media, Ending: ending, Data: picture}); err != nil {
		return "", err
	}
	if err := form.Close(); err != nil {
		return "", err
	}
	header := w.config.Auth()
	header.Set("Content-Type", form.FormDataContentType())
	name := ""
	d := connect.SendCall(ctx, w.config.Env, connect.Call{
		Method: http.MethodPost, Address: address, Shown: "POST " + hostOf(address) + ", a picture", Header: header, Body: b.Bytes(), Key: "picture",
		Judge: func(raw []byte, d *connect.Delivery) {
			if w.answer.judge(raw, d); d.Taken {
				name = w.answer.pictureIn(raw)
			}
		},
	})
	if name == "" {
		return "", fmt.Errorf("the picture was not taken: %s", d.Answer)
	}
	return name, nil
}

// call sends a post as a call to an address, or to its place's own where that is empty. under is the earlier post in whose thread
// it stands.
func (w *webhook) call(ctx context.Context, p connect.Post, under, method, address string, edit bool) connect.Delivery {
	i := slices.IndexFunc(w.places, func(o known) bool { return o.name == p.Place })
	if i < 0 {
		return connect.Unreachable(fmt.Sprintf("there is no place %s any more; add it in the settings of %s", p.Place, w.config.ID))
	}
	if address == "" {
		address = w.places[i].address
	}
	body, media, err := w.body(ctx, p, under, true)
	if err != nil {
		return connect.Refused("the body cannot be made: " + err.Error())
	}
	header := w.config.Auth()
	header.Set("Content-Type", media)
	return connect.SendCall(ctx, w.config.Env, connect.Call{
		Method: method, Address: address, Shown: method + " " + hostOf(address) + ", the address of " + p.Place,
		Header: header, Body: body, Key: p.Key, Through: p.Through, Edit: edit, Judge: w.answer.judge, Secret: w.config.Settings["body_secret"],
	})
}

func marksOf(settings map[string]string) (connect.Marks, error) {
	switch settings["marks"] {
	case commonMark:
		return connect.Marks{Text: message.EscapeMarkdown, Body: (*message.Document).Markdown, Mention: func(m message.Mentioned) string { return message.EscapeMarkdown(m.Name) }}, nil
	case asHTML:
		return connect.Marks{Text: message.EscapeHTML, Body: (*message.Document).HTMLBody, Mention: func(m message.Mentioned) string { return message.EscapeHTML(m.Name) }}, nil
	case ownMarks:
		m, err := message.ReadMarks(settings["own_marks"])
		if err != nil {
			return connect.Marks{}, inMarks(err)
		}
		return connect.Marks{Text: m.Text, Body: m.Write, Mention: m.MentionOf}, nil
	}
	return connect.NoMarks, nil
}

func inMarks(err error) error {
	if f, ok := fault.Of(err); ok {
		return fault.At("own_marks", "%s: %s", f.Place, f.Said)
	}
	return fault.In("own_marks", err)
}
