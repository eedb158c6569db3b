package grants

import (
	"context"

	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/gate/ground"
	"innergate/store"
)

const settingRegistration = "client-registration"

// RegistrationOn says whether clients may register themselves. It is off until an owner switches it on.
func (g *Room) RegistrationOn(ctx context.Context) (bool, error) {
	var s store.Setting
	err := g.Store.Read(ctx).Where("name = ?", settingRegistration).Limit(1).Find(&s).Error
	return s.Value == "on", store.Clear(err)
}

// SetRegistration switches it.
func (g *Room) SetRegistration(ctx context.Context, who ground.Actor, on bool) error {
	before, err := g.RegistrationOn(ctx)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.WriteRegistration(tx, who, before, on) })
}

// WriteRegistration switches client registration on or off in a transaction.
func (g *Room) WriteRegistration(tx *gorm.DB, who ground.Actor, before, on bool) error {
	value := map[bool]string{true: "on", false: "off"}[on]
	return g.StoreSetting(
		tx, who, settingRegistration, "client registration", value, ground.MustJSON(config.Registration{On: before}),
		ground.MustJSON(config.Registration{On: on}),
	)
}
