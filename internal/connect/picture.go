package connect

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	_ "image/gif" // which pictures are read
	"image/jpeg"
	"image/png"
	"io"
	"net"
	"net/http"

	"dorfbote/internal/core/message"
)

// Picture is a picture as Dorfbote hands it on: read, and written anew, so that nothing else comes along.
type Picture struct {
	Media, Ending string // image/png and .png, or image/jpeg and .jpg
	Data          []byte
}

// Bounds of foreign pictures.
const (
	maxPicture = 10 << 20   // bytes
	maxPixels  = 40_000_000 // which take four bytes each
)

// PictureOf gives a message's picture: what was made for it, or what stands at its address.
func PictureOf(ctx context.Context, env Env, p *message.Picture) (*Picture, error) {
	if len(p.Made) > 0 {
		if http.DetectContentType(p.Made) == "image/jpeg" {
			return &Picture{"image/jpeg", ".jpg", p.Made}, nil
		}
		return &Picture{"image/png", ".png", p.Made}, nil
	}
	return FetchPicture(ctx, env, p.From)
}

// FetchPicture reads a picture from an address through the guard: bounded, of a real type by its content, and written anew.
func FetchPicture(ctx context.Context, env Env, address string) (*Picture, error) {
	a, err := env.Get(ctx, address, http.Header{"Accept": {"image/png, image/jpeg, image/gif"}})
	if err != nil {
		return nil, err
	}
	defer a.Body.Close()
	// Its size is read from its first bytes, before there is room for the rest of it.
	var head bytes.Buffer
	if _, _, err := measured(io.TeeReader(io.LimitReader(a.Body, maxPicture), &head)); err != nil {
		return nil, err
	}
	raw, err := io.ReadAll(io.MultiReader(&head, io.LimitReader(a.Body, maxPicture+1)))
	if err != nil {
		return nil, err
	}
	return Recoded(ctx, env, raw)
}

// measured reads how large a picture is, and of which kind, from its first bytes, and refuses one that is too large.
func measured(r io.Reader) (image.Config, string, error) {
	size, kind, err := image.DecodeConfig(r)
	if err != nil {
		if f, ok := errors.AsType[net.Error](err); ok && f.Timeout() || errors.Is(err, context.DeadlineExceeded) {
			return size, kind, err
		}
		return size, kind, errors.New("this isn't a picture; PNG, JPEG and GIF are read")
	}
	if size.Width < 1 || size.Height < 1 || size.Width > maxPixels/size.Height {
		return size, kind, fmt.Errorf("the picture has %d by %d points, which is too many", size.Width, size.Height)
	}
	return size, kind, nil
}

// Fetch reads what lies at an address through the guard, at most so many bytes; more is an error.
func Fetch(ctx context.Context, env Env, address string, header http.Header, most int64) ([]byte, error) {
	a, err := env.Get(ctx, address, header)
	if err != nil {
		return nil, err
	}
	defer a.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(a.Body, most+1))
	if err == nil && int64(len(raw)) > most {
		err = fmt.Errorf("what lies at %s is larger than %d MiB", address, most>>20)
	}
	return raw, err
}

// Recoded reads a picture's bytes and writes them anew. However many are read at once in a process, they have no more points together
// than one may have: whoever finds no room waits until ctx ends.
func Recoded(ctx context.Context, env Env, raw []byte) (*Picture, error) {
	if len(raw) > maxPicture {
		return nil, fmt.Errorf("the picture is larger than %d MiB", maxPicture>>20)
	}
	size, kind, err := measured(bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	if env.pixels != nil {
		points := int64(size.Width) * int64(size.Height)
		if err := env.pixels.Acquire(ctx, points); err != nil {
			return nil, fmt.Errorf("too many pictures are being read at the moment: %w", err)
		}
		defer env.pixels.Release(points)
	}
	img, _, err := image.Decode(bytes.NewReader(raw))
	if err != nil {
		return nil, fmt.Errorf("the picture cannot be read: %w", err)
	}
	var b bytes.Buffer
	if kind == "jpeg" {
		err = jpeg.Encode(&b, img, &jpeg.Options{Quality: 88})
		return &Picture{"image/jpeg", ".jpg", b.Bytes()}, err
	}
	err = png.Encode(&b, img)
	return &Picture{"image/png", ".png", b.Bytes()}, err
}
