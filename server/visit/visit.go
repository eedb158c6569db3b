package visit

import (
	"net/netip"
	"time"

	"github.com/gofiber/fiber/v3"

	"innergate/gate"
	"innergate/gate/ground"
)

// Reception knows of every request from where it comes, and keeps and takes the gate's cookies.
type Reception struct {
	Gate    *gate.Gate
	Trusted []netip.Prefix // networks whose X-Forwarded-For is believed
}

// Address is the network address of whom the request is from.
func (r *Reception) Address(c fiber.Ctx) string {
	peer, ok := netip.AddrFromSlice(c.RequestCtx().RemoteIP())
	if !ok {
		return "unknown"
	}
	return ground.AddressOf(peer, c.Get("X-Forwarded-For"), r.Trusted).String()
}

// ConsoleCookieLife is how long a browser keeps the cookie of a session at the console.
const ConsoleCookieLife = 24 * time.Hour

// CookieName is the whole name of one of the gate's cookies. With TLS it is bound to the host (RFC 6265bis, section 4.1.3.2).
func (r *Reception) CookieName(name string) string {
	if r.Gate.Secure() {
		return "__Host-ig-" + name
	}
	return "ig-" + name
}

// SetCookie sets a cookie for some time, or, where that is 0, for as long as the browser runs.
func (r *Reception) SetCookie(c fiber.Ctx, name, value string, life time.Duration) {
	c.Cookie(&fiber.Cookie{
		Name:     name,
		Value:    value,
		Path:     "/",
		HTTPOnly: true,
		Secure:   r.Gate.Secure(),
		SameSite: "Lax",
		MaxAge:   int(life.Seconds()),
	})
}

// DropCookie has the browser forget a cookie.
func (r *Reception) DropCookie(c fiber.Ctx, name string) {
	c.Cookie(&fiber.Cookie{
		Name:     name,
		Path:     "/",
		HTTPOnly: true,
		Secure:   r.Gate.Secure(),
		SameSite: "Lax",
		Expires:  time.Unix(1, 0),
		MaxAge:   -1,
	})
}

// SameOrigin refuses forms of ours that another site had the browser post.
func (r *Reception) SameOrigin(c fiber.Ctx) error {
	if site := c.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
		return fiber.ErrForbidden
	}
	if o := c.Get("Origin"); o != "" && o != "null" && o != r.Gate.PublicURL {
		return fiber.ErrForbidden
	}
	return nil
}
