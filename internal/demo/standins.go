package demo

import (
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"dorfbote/internal/core/people"
	"dorfbote/internal/seal"
	"dorfbote/internal/store"
)

// book are the people of the demo, as the people book has them.
var book = []people.Person{
	{ID: "marit", Name: "Marit Aven", Prefers: "mail", Addresses: []people.Address{{Connection: "mail", Address: "marit@lindental.example"}, {Connection: "phone", Address: "+41790004601"}}},
	{ID: "jonas", Name: "Jonas Rietmann", Prefers: "phone", Addresses: []people.Address{{Connection: "mail", Address: "jonas@lindental.example"}, {Connection: "phone", Address: "+41790004602"}}},
	{ID: "vera", Name: "Vera Kolb", Prefers: "mail", Addresses: []people.Address{{Connection: "mail", Address: "vera@lindental.example"}}},
}

// standIns connects the stand-in mailbox and phone, or tells their connections where these listen this time. What a person has
// deleted stays so.
func standIns(db *gorm.DB, box *seal.Box, at Addresses, first bool) error {
	var token string
	if err := db.Raw("SELECT token FROM practice.tokens WHERE sender = 'Dorfbote' LIMIT 1").Scan(&token).Error; err != nil || token == "" {
		return errors.Join(err, errors.New("the square knows no token of Dorfbote's"))
	}
	for _, c := range []struct {
		id, kind, title string
		settings        store.Texts
		secrets         map[string]string
	}{
		{"mail", "mail", "Mailbox", store.Texts{"smtp": at.Mail, "smtp_security": "not at all", "user": "dorfbote", "from": "desk@lindental.example", "from_name": "Tour desk, Lindental"}, map[string]string{"password": token}},
		{"phone", "text", "Phone", store.Texts{"sender_id": "Lindental", "shape": "to, from, text, reports", "auth": "bearer token", "account": at.Practice + "/phone/account", "id": "$.message.id"},
			map[string]string{"token": token, "address": at.Practice + "/phone/messages", "door": token[:min(len(token), 24)]}},
	} {
		sealed, err := box.Seal(c.secrets, c.id)
		if err != nil {
			return err
		}
		if first {
			row := store.Connection{ID: c.id, Kind: c.kind, Title: c.title, KeyField: "id", Settings: c.settings, Sealed: sealed, CreatedAt: time.Now()}
			err = db.Clauses(clause.OnConflict{DoNothing: true}).Create(&row).Error
		} else {
			err = db.Model(&store.Connection{}).Where("id = ? AND kind = ?", c.id, c.kind).Updates(map[string]any{"settings": c.settings, "sealed": sealed}).Error
		}
		if err != nil {
			return err
		}
	}
	if !first {
		return nil
	}
	for _, p := range book {
		row := store.InBook(p, time.Now())
		if err := db.Clauses(clause.OnConflict{DoNothing: true}).Create(&row).Error; err != nil {
			return err
		}
	}
	return nil
}
