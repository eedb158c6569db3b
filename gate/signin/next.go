package signin

import (
	"time"

	"innergate/core/explain"
)

// Next is what a browser gets: where it goes or what it is shown, and what it keeps and forgets.
type Next struct {
	To Goal
	Cookies
}

// Goal is where a browser goes or what it is shown. The set is closed: Redirect, *Form, *Choice, *Confirm, *AskProfile,
// *SignOut, Done and *FailurePage.
type Goal interface{ goal() }

// Redirect is an address to go to.
type Redirect string

// Done says that there is nothing more to do, in words for the person.
type Done string

func (Redirect) goal()     {}
func (*Form) goal()        {}
func (*Choice) goal()      {}
func (*Confirm) goal()     {}
func (*AskProfile) goal()  {}
func (*SignOut) goal()     {}
func (Done) goal()         {}
func (*FailurePage) goal() {}

// Cookies is what a browser is to keep and to forget.
type Cookies struct {
	// SetSignIn is the sign-in whose secret the browser must keep; DropSignIns are those to forget.
	SetSignIn   string
	Secret      string
	DropSignIns []string
	// Console is the token of the console session that begins.
	Console string
	// DropRehearsal ends the rehearsal in this browser.
	DropRehearsal bool
	// Way is the provider that the browser is to remember.
	Way string
	// Session is the token of the session that the browser has from now on, for longer than the browser runs until
	// SessionEnds (zero for as long as it runs). DropSession ends it.
	Session     string
	SessionEnds time.Time
	DropSession bool
	// SetSignOut is the sign-out under way whose secret the browser must keep, DropSignOut one to forget.
	SetSignOut, DropSignOut string
}

// Form is sent by the browser to another party: posted, or, where Method is get, as a query.
type Form struct {
	Method string
	Action string
	Fields [][2]string
}

// Choice asks the person which provider to use.
type Choice struct {
	Application string
	SignIn      string
	Providers   []ProviderChoice
	// Field asks for a name or mail address; Name is what was given before, and Again is set where it did not lead to
	// one way.
	Field bool
	Name  string
	Again bool
	// Portal is set where people sign in to see their own page.
	Portal bool
}

// ProviderChoice is one provider to choose. Last is set for the one that this browser took the last time.
type ProviderChoice struct {
	Slug, Name string
	Last       bool
}

// Confirm asks the person whether to go on to the application.
type Confirm struct {
	Application, Person      string
	SignIn                   string
	HomePage, Privacy, Terms string
	Hands                    []string // what is handed on, in words
	Native                   bool     // the answer goes to a program on this very machine
	Device                   bool     // another device showed the code
	Linked                   bool     // the code was not typed: a link brought it
	Role                     string   // what the person will be allowed at the gate itself, if that is where they go
}

// FailurePage is what the person is told.
type FailurePage struct {
	Reference   string
	Explanation explain.Explanation
	Application string
	Back        string // where to start again, if anywhere
	Return      Goal   // the protocol's own answer to the application, if there is one: a *Form or a Redirect
	Status      int
	SigningOut  bool // it was a sign-out that failed
}

// SignOut is what a browser that signs out is shown.
type SignOut struct {
	Title, Text string
	Person      string // who is signed in, where they are asked
	// Ask is set where the person has to say that they want to sign out; Request is what came, to be agreed to.
	Ask     bool
	Request string
	// Told and Untold are the applications that know that the sign-in has ended, and those that may not.
	Told, Untold []string
	// Wordless are applications that can't be told: they have no address for it.
	Wordless []string
	// Other is whose sign-in ended where it was not this browser's own.
	Other string
	// Frames are addresses of applications that are told by way of the browser (OpenID Connect Front-Channel Logout
	// 1.0).
	Frames []string
	// Onward is where the person goes next, Name what that is.
	Onward, Name string
}
