package standin

// ApplicationHabits are what real SAML applications do by default, and what their engineers seldom know of.
type ApplicationHabits struct {
	// Context is the context class that each request demands, exactly; empty for none.
	Context string
	// UnsignedLogout leaves its LogoutRequests without a signature.
	UnsignedLogout bool
}

// Behave sets the application's habits.
func (a *Application) Behave(h ApplicationHabits) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.habits = h
}

// Habits are the application's habits as they are set.
func (a *Application) Habits() ApplicationHabits {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.habits
}

// LeaveCodes has the client take its answers and never come for its tokens, as one whose server can't reach the token endpoint.
func (c *Client) LeaveCodes(on bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.leaves = on
}

func (c *Client) leavesCodes() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.leaves
}

// SayContexts has the provider say in acr what it was asked for, as few do. It says no acr otherwise.
func (p *OpenID) SayContexts(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.contexts = on
}

// NameIssuer has a plain OAuth 2.0 provider name itself in its answers (RFC 9207), as some do.
func (p *OpenID) NameIssuer(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.names = on
}

func (p *OpenID) namesIssuer() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return !p.Plain || p.names
}

func (p *OpenID) saysContexts() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.contexts
}
