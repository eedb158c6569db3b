package server

import (
	"strings"

	"github.com/gofiber/fiber/v3"
)

// OpenRoutes lists what the server answers to anybody, method and path: all but the management API and the console's files.
func (s *Server) OpenRoutes() []string {
	var out []string
	for _, r := range s.app.GetRoutes(true) {
		if r.Method != "HEAD" && !strings.HasPrefix(r.Path, "/api/") && !strings.HasPrefix(r.Path, "/console/") {
			out = append(out, r.Method+" "+r.Path)
		}
	}
	return out
}

// Failed answers with an error.
func (s *Server) Failed(c fiber.Ctx, err error) error { return s.failed(c, err) }
