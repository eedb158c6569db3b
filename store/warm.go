package store

import (
	_ "github.com/go-gormigrate/gormigrate/v2"
	_ "github.com/gofiber/fiber/v3"
	_ "gorm.io/driver/sqlite"
)
