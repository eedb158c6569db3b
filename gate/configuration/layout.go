package configuration

import (
	"context"
	"time"

	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// LayOutAll does once for every object what newer versions do with each change.
func (g *Room) LayOutAll(ctx context.Context) error {
	var done int64
	if err := g.Store.Read(ctx).Model(&store.Setting{}).Where("name = 'laid-out'").Count(&done).Error; err != nil || done > 0 {
		return store.Clear(err)
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		now := g.Now().UTC()
		after := ""
		for {
			var rows []store.Application
			if err := tx.Where("id > ?", after).Order("id").Limit(200).Find(&rows).Error; err != nil {
				return err
			}
			if len(rows) == 0 {
				break
			}
			for _, row := range rows {
				if a, err := ground.DecodeBody[config.Application](row.Body); err == nil && a.SAML != nil {
					if err := partners.LayOut(tx, now, ground.System,
						ground.Saved{Kind: "application", ID: row.ID, Certificates: a.SAML.Certificates,
							Watch: a.SAML.Metadata}); err != nil {
						return err
					}
				}
				after = row.ID
			}
		}
		var rows []store.Provider
		if err := tx.Find(&rows).Error; err != nil {
			return err
		}
		for _, row := range rows {
			if p, err := ground.DecodeBody[config.Provider](row.Body); err == nil && p.SAML != nil {
				if err := partners.LayOut(tx, now, ground.System,
					ground.Saved{Kind: "provider", ID: row.ID, Certificates: p.SAML.Certificates, Watch: p.SAML.Metadata}); err != nil {
					return err
				}
			}
		}
		return ground.KeepSetting(tx, "laid-out", now.Format(time.RFC3339))
	})
}
