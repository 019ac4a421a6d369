package pages

import (
	"context"
	"crypto/rand"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/picture"
	"idleember/hub"
	"idleember/store"
)

// AddPicture keeps a picture after making it safe; what was left out of it is told.
func (p *Pages) AddPicture(ctx context.Context, a access.Actor, name string, body []byte) (id string,
	pic picture.Picture, err error) {
	if err := access.May(a, access.Tend, access.Anything); err != nil {
		return "", pic, err
	}
	if pic, err = picture.Clean(body); err != nil {
		return "", pic, fault.Invalid("picture", "%v", err)
	}
	id = strings.ToLower(rand.Text())[:20]
	return id, pic, p.house.Do(ctx, func(t hub.Turn) error {
		t.Write(store.SavePicture(store.Picture{ID: id, Account: a.ID, Name: name, Type: pic.Type,
			Created: p.house.Time().UnixMilli(), Body: pic.Body, Rules: picture.Rules}))
		t.Journal(a, "add", "picture."+id, "", name, "")
		return nil
	})
}

// Picture returns a picture. Its id cannot be guessed and stands only in what shows it; whoever knows it may look.
func (p *Pages) Picture(ctx context.Context, a access.Actor, id string) (store.Picture, error) {
	if err := access.May(a, access.Look, access.Anything); err != nil {
		return store.Picture{}, err
	}
	pic, ok, err := p.store.Picture(ctx, id)
	if err == nil && !ok {
		err = fault.NotFound("picture", id)
	}
	if err != nil || pic.Rules >= picture.Rules {
		return pic, err
	}
	again, err := picture.Clean(pic.Body)
	if err != nil {
		return pic, &fault.InvalidError{Field: "picture", Reason: "this picture came before the hub knew better: " +
			err.Error()}
	}
	pic.Body, pic.Rules = again.Body, picture.Rules
	return pic, p.house.Do(ctx, func(t hub.Turn) error {
		t.Write(store.SavePicture(pic))
		return nil
	})
}

// dropPictures forgets pictures that nothing shows, a day after they came.
func (p *Pages) dropPictures(ctx context.Context) error {
	ids, err := p.store.PicturesBefore(ctx, p.house.Time().Add(-24*time.Hour).UnixMilli())
	if err != nil || len(ids) == 0 {
		return err
	}
	return p.house.Do(ctx, func(t hub.Turn) error {
		shown := p.house.Site().Pictures()
		for _, id := range ids {
			if !shown[id] {
				t.Write(store.DropPicture(id))
			}
		}
		return nil
	})
}
