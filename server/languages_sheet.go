package server

import (
	"strings"
)

// sheetName is the name of a value on the exchange sheet in a language. Terms of the standards stay as they are.
func sheetName(lang, name string) string {
	if lang != "de" {
		return said(lang, name)
	}
	if t, ok := germanSheet[name]; ok {
		return t
	}
	return germanParts.Replace(name)
}

// sheetHint is a hint in a language; what varies in it stays.
func sheetHint(lang, hint string) string {
	if lang != "de" {
		return said(lang, hint)
	}
	if t, ok := germanSheet[hint]; ok {
		return t
	}
	for _, beginning := range []string{"also called thumbprint; ends "} {
		if rest, ok := strings.CutPrefix(hint, beginning); ok {
			return germanSheet[beginning] + rest
		}
	}
	return hint
}

// leftStates are the words for what became of something that the other side left.
var leftStates = map[string]string{"open": "Waits for a look", "approved": "Approved, not set yet", "applied": "Taken",
	"withdrawn": "Not taken", "missed": "Not taken"}

// leftState says in a language what became of something that the other side left.
func leftState(lang, state string) string { return said(lang, leftStates[state]) }

// sheetRole is who is who, in a language.
func sheetRole(lang, role, name string) string {
	return said(lang, strings.Replace(role, name, "%s", 1), name)
}

var germanParts = strings.NewReplacer("Signing certificate", "Signaturzertifikat", "Encryption certificate", "Verschlüsselungszertifikat",
	"fingerprint", "Fingerabdruck", "(next)", "(nächstes)")

var germanSheet = texts([][2]string{
	{"also called issuer, identity provider identifier", "auch Issuer oder Kennung des Identity Providers genannt"},
	{"also called SSO URL, login URL, sign-in page address", "auch SSO-URL, Login-URL oder Adresse der Anmeldeseite genannt"},
	{
		"everything on this page as one file; a partner that fetches it again by itself takes part in key changes without a hand's turn",
		"alles auf dieser Seite als eine Datei; wer sie von selbst wieder abruft, macht Schlüsselwechsel ohne einen Handgriff mit",
	},
	{
		"begins a sign-in as the tile does; for links on other pages",
		"beginnt eine Anmeldung wie die Kachel; für Links auf anderen Seiten",
	},
	{
		"what comes with a sign-in that begins here, where no deep link is asked for",
		"was mit einer hier begonnenen Anmeldung kommt, wenn kein tieferer Link gewünscht ist",
	},
	{
		"takes a LogoutRequest; also called SLO URL. Not for a field that wants a plain address",
		"nimmt einen LogoutRequest; auch SLO-URL genannt. Nicht für ein Feld, das eine einfache Adresse will",
	},
	{
		"a plain address to which people are sent when they have signed out, without any protocol",
		"eine einfache Adresse, zu der Menschen nach dem Abmelden geschickt werden, ohne jedes Protokoll",
	},
	{"only for applications that take their answers by artifact", "nur für Anwendungen, die ihre Antworten per Artifact nehmen"},
	{"the form of the identifier that we send", "die Form der Kennung, die wir senden"},
	{"the form of the identifier that we ask for", "die Form der Kennung, um die wir bitten"},
	{"also called audience, relying party identifier, realm", "auch Audience, Kennung der Relying Party oder Realm genannt"},
	{
		"also called ACS URL, return address, assertion endpoint, recipient",
		"auch ACS-URL, Rücksprungadresse, Assertion-Endpunkt oder Recipient genannt",
	},
	{
		"takes a LogoutRequest when somebody signs out at the provider; also called SLO URL, single logout address",
		"nimmt einen LogoutRequest, wenn sich jemand beim Provider abmeldet; auch SLO-URL genannt",
	},
	{
		"for sign-ins that begin at the provider: the start address of the application that is wanted",
		"für Anmeldungen, die beim Provider beginnen: die Startadresse der gewünschten Anwendung",
	},
	{
		"X.509, PEM; also called public key, verification certificate",
		"X.509, PEM; auch öffentlicher Schlüssel oder Prüfzertifikat genannt",
	},
	{"X.509, PEM; for providers that encrypt assertions", "X.509, PEM; für Provider, die Assertions verschlüsseln"},
	{
		"the one that will replace it: hold both until we have changed over",
		"dasjenige, das es ersetzen wird: behalten Sie beide, bis wir gewechselt haben",
	},
	{"only where a form still asks for it", "nur, wo ein Formular noch danach fragt"},
	{"also called thumbprint; ends ", "auch Thumbprint genannt; endet am "},
	{"Metadata", "Metadaten"},
	{"Metadata, signed", "Metadaten, signiert"},
	{"XML, with our signature", "XML, mit unserer Signatur"},
	{"Start address", "Startadresse"},
	{"Sign-out address", "Abmeldeadresse"},
	{"NameID format", "NameID-Format"},
	{"What we sign", "Was wir signieren"},
	{"What we encrypt", "Was wir verschlüsseln"},
	{"What you sign", "Was Sie signieren"},
	{"What you may encrypt", "Was Sie verschlüsseln können"},
	{"Your AuthnRequests", "Ihre AuthnRequests"},
	{"What signing out needs", "Was das Abmelden braucht"},
	{"Default RelayState", "Üblicher RelayState"},
	{"IdP entity ID", "Entity-ID des IdP"},
	{"SP entity ID", "Entity-ID des SP"},
	{"Discovery document", "Discovery-Dokument"},
	{"Key set", "Schlüsselsatz"},
	{"Key set (JWKS)", "Schlüsselsatz (JWKS)"},
	{"Our key set (JWKS)", "Unser Schlüsselsatz (JWKS)"},
	{"Client ID", "Client-ID"},
	{"Client secret", "Client-Secret"},
	{"Client authentication", "Authentisierung des Clients"},
	{"Flow", "Ablauf"},
	{"Subject", "Subject"},
	{"Scopes", "Scopes"},
	{"Client ID that we hold", "Client-ID, die wir haben"},
	{"Redirect URI that we hold", "Redirect-URI, die wir haben"},
	{"Post-logout redirect URI that we hold", "Post-Logout-Redirect-URI, die wir haben"},
	{"Redirect URI", "Redirect-URI"},
	{"Post-logout redirect URI", "Post-Logout-Redirect-URI"},
	{"Back-channel logout URI", "Back-Channel-Logout-URI"},
	{"Display name", "Anzeigename"},
	{"Host", "Host"},
	{"Home page", "Startseite"},
	{"Privacy policy", "Datenschutzerklärung"},
	{"Terms of service", "Nutzungsbedingungen"},
	{"Application type", "Art der Anwendung"},
	{"ID token signature", "Signatur des ID-Tokens"},
	{"Authorization endpoint", "Authorization-Endpunkt"},
	{"Token endpoint", "Token-Endpunkt"},
	{"UserInfo endpoint", "UserInfo-Endpunkt"},
	{"End session endpoint", "End-Session-Endpunkt"},
	{"Device authorization endpoint", "Endpunkt für andere Geräte"},
	{"Introspection endpoint", "Introspection-Endpunkt"},
	{
		"also called authority, provider URL; most libraries need nothing but this and the client",
		"auch Authority oder Provider-URL genannt; die meisten Bibliotheken brauchen nur dies und den Client",
	},
	{"also called metadata address, well-known configuration", "auch Metadatenadresse oder well-known-Konfiguration genannt"},
	{"also called application ID", "auch Anwendungs-ID genannt"},
	{"how the client proves who it is at the token endpoint", "wie sich der Client am Token-Endpunkt ausweist"},
	{"also called sign-in URL", "auch Anmelde-URL genannt"},
	{"also called access token URL", "auch Access-Token-URL genannt"},
	{"also called profile URL", "auch Profil-URL genannt"},
	{"also called logout URL", "auch Logout-URL genannt"},
	{"for signing in on another device", "zum Anmelden auf einem anderen Gerät"},
	{"tells about an access token", "gibt Auskunft über ein Access-Token"},
	{
		"the keys that sign tokens, the next one already among them; fetch it again when a token names a key that you do not hold",
		"die Schlüssel, die Tokens signieren, der nächste schon darunter; rufen Sie ihn neu ab, wenn ein Token einen Schlüssel nennt, " +
			"den Sie nicht haben",
	},
	{
		"also called callback, return address; compared letter by letter",
		"auch Callback oder Rücksprungadresse genannt; Buchstabe für Buchstabe verglichen",
	},
	{"compared letter by letter", "Buchstabe für Buchstabe verglichen"},
	{
		"also called callback, return address; enter it exactly so",
		"auch Callback oder Rücksprungadresse genannt; genau so eintragen",
	},
	{
		"ask for these and no more: each asks for what is named below, and what is not asked for is not handed on",
		"bitten Sie um diese und keine anderen: jeder steht für das unten Genannte; worum nicht gebeten wird, das wird nicht weitergegeben",
	},
	{"the algorithm to expect, and no other", "der zu erwartende Algorithmus, und kein anderer"},
	{"the claim sub", "der Claim sub"},
	{"what people see there", "was Menschen dort sehen"},
	{"where a form wants only the domain", "wo ein Formular nur die Domain will"},
	{"where a form wants one", "wo ein Formular eine will"},
	{"where a form wants them", "wo ein Formular sie will"},
	{"also called client type", "auch Client-Typ genannt"},
	{"also called grant type, response type", "auch Grant-Typ oder Response-Typ genannt"},
	{"how we prove who we are at the token endpoint", "wie wir uns am Token-Endpunkt ausweisen"},
	{
		"what we ask for; nothing more is needed, and a provider that reviews scopes need review no others",
		"worum wir bitten; mehr ist nicht nötig, und ein Provider, der Scopes prüft, muss keine anderen prüfen",
	},
	{"as you gave it to us", "wie Sie sie uns gegeben haben"},
	{
		"the keys that sign our client assertions, the next one already among them",
		"die Schlüssel, die unsere Client-Assertions signieren, der nächste schon darunter",
	},
	{"where you send people when they have signed out", "wohin Sie Menschen nach dem Abmelden schicken"},
	{"where you tell us that somebody has signed out", "wo Sie uns sagen, dass sich jemand abgemeldet hat"},
	{
		"handed over apart from this sheet; it is shown only once, when it is made on the application's page",
		"wird getrennt von diesem Blatt übergeben; es wird nur einmal gezeigt, wenn es gemacht wird",
	},
	{
		"authorization code with PKCE (S256); no other flow is given",
		"Authorization Code mit PKCE (S256); einen anderen Ablauf gibt es nicht",
	},
	{"response_type=code", "response_type=code"},
	{"web application, confidential client", "Webanwendung, vertraulicher Client"},
	{"authorization code (response_type=code) with PKCE (S256)", "Authorization Code (response_type=code) mit PKCE (S256)"},
	{"random, stable, different at each application", "zufällig, beständig, in jeder Anwendung ein anderer"},
	{"random, stable, the same at every application", "zufällig, beständig, in jeder Anwendung derselbe"},
	{"Who may reach the application", "Wer die Anwendung erreichen darf"},
	{
		"only the gate: whoever reaches an inner address by another way can claim to be anybody. Close it to all other hosts.",
		"nur das Gate: wer eine innere Adresse auf anderem Weg erreicht, kann sich für jeden ausgeben. Schließen Sie sie für alle " +
			"anderen Hosts.",
	},
	{"Identity", "Identität"},
	{"none is passed on", "es wird keine weitergegeben"},
	{
		"in the headers below; what a browser sends under their names, in any spelling, is taken away",
		"in den Headern unten; was ein Browser unter ihren Namen sendet, in jeder Schreibweise, wird entfernt",
	},
	{"Host header", "Host-Header"},
	{"Where people are", "Wo Menschen sind"},
	{
		"X-Forwarded-For is the person's network address, X-Forwarded-Host and X-Forwarded-Proto are of the public address",
		"X-Forwarded-For ist die Netzadresse der Person, X-Forwarded-Host und X-Forwarded-Proto gehören zur öffentlichen Adresse",
	},
	{"user name", "Benutzername"},
	{"mail address", "Mailadresse"},
	{"given name", "Vorname"},
	{"family name", "Nachname"},
	{"full name", "voller Name"},
	{"groups", "Gruppen"},
})

func init() {
	for english, text := range germanHandover {
		german[english] = text
	}
}

// germanHandover holds the texts of the pages for the other side's engineers.
var germanHandover = texts([][2]string{
	{"Connecting %s with Inner Gate", "%s mit Inner Gate verbinden"},
	{"Sign in both ways", "Auf beiden Wegen anmelden"},
	{
		"%s gives you what you need to connect %s, and asks for your values. You need no account here.",
		"%s gibt Ihnen, was Sie zum Verbinden von %s brauchen, und bittet um Ihre Werte. Sie brauchen hier kein Konto.",
	},
	{
		"The page opens in this browser, and in as many others as it was made for: %d more. It ends on %s.",
		"Die Seite öffnet sich in diesem Browser und in so vielen anderen, wie vorgesehen: noch %d. Sie endet am %s.",
	},
	{"Open the page", "Seite öffnen"},
	{"From %s. The page can be used until %s.", "Von %s. Die Seite kann bis %s benutzt werden."},
	{
		"Thank you. What you left waits for somebody here to look at it; nothing has changed yet. You can try a sign-in with it already.",
		"Danke. Was Sie hinterlassen haben, wartet darauf, dass es hier jemand ansieht; geändert hat sich noch nichts. Eine Anmeldung " +
			"können Sie damit schon ausprobieren.",
	},
	{"Our values", "Unsere Werte"},
	{"Compare", "Vergleichen"},
	{"Your values", "Ihre Werte"},
	{"Try it", "Ausprobieren"},
	{"%s, as a file", "%s, als Datei"},
	{"Steps", "Schritte"},
	{"Attributes", "Attribute"},
	{"mandatory", "verpflichtend"},
	{"for example %s", "zum Beispiel %s"},
	{
		"Paste what your form or file shows now: labels and values, or metadata. It is held against our values letter by letter, and " +
			"not kept.",
		"Fügen Sie ein, was Ihr Formular oder Ihre Datei jetzt zeigt: Bezeichnungen und Werte, oder Metadaten. Es wird Buchstabe für " +
			"Buchstabe mit unseren Werten verglichen und nicht aufbewahrt.",
	},
	{"Everything that was recognised is right.", "Alles, was erkannt wurde, stimmt."},
	{"Something differs.", "Etwas weicht ab."},
	{"ours", "unser"},
	{"yours", "Ihr"},
	{"%s was not among it", "%s war nicht dabei"},
	{"What you hold", "Was Sie haben"},
	{
		"Your metadata or discovery document: its address, or the text itself. Or a list of values, each with its label.",
		"Ihre Metadaten oder Ihr Discovery-Dokument: die Adresse oder der Text selbst. Oder eine Liste von Werten, jeder mit seiner " +
			"Bezeichnung.",
	},
	{"This is what we understood", "Das haben wir verstanden"},
	{"We hold all of this already.", "All das haben wir schon."},
	{"Address, metadata or values", "Adresse, Metadaten oder Werte"},
	{"A certificate that came beside it", "Ein Zertifikat, das daneben kam"},
	{"A remark for us", "Eine Bemerkung für uns"},
	{"A secret has 1 to 2000 characters.", "Ein Secret hat 1 bis 2000 Zeichen."},
	{"This is the client ID, not the secret.", "Das ist die Client-ID, nicht das Secret."},
	{"This is an address, not a secret.", "Das ist eine Adresse, kein Secret."},
	{"This is a certificate or key, not a client secret.", "Das ist ein Zertifikat oder Schlüssel, kein Client-Secret."},
	{
		"Much was left through this link already; ask for another one.",
		"Über diesen Link wurde schon viel hinterlassen; bitten Sie um einen anderen.",
	},
	{"Many sign-ins were tried through this link already.", "Über diesen Link wurden schon viele Anmeldungen ausprobiert."},
	{"The client ID that you gave us", "Die Client-ID, die Sie uns gegeben haben"},
	{"The client secret", "Das Client-Secret"},
	{
		"Sealed at once. Nobody sees it again, and it does not come back into this form.",
		"Wird sofort versiegelt. Niemand sieht es wieder, und es kommt nicht in dieses Formular zurück.",
	},
	{"with a client secret", "mit einem Client-Secret"},
	{"See what you understand", "Ansehen, was verstanden wird"},
	{"Leave it with you", "Hinterlassen"},
	{"What was left", "Was hinterlassen wurde"},
	{"Waits for a look", "Wartet auf einen Blick"},
	{"Approved, not set yet", "Gutgeheißen, noch nicht gesetzt"},
	{"Taken", "Übernommen"},
	{"Not taken", "Nicht übernommen"},
	{
		"Sign in with a test account of your own. Nobody else is touched by it. You see how it ended; so do we.",
		"Melden Sie sich mit einem eigenen Testkonto an. Niemand sonst ist davon berührt. Sie sehen, wie es ausging; wir auch.",
	},
	{"It can't be tried yet.", "Es lässt sich noch nicht ausprobieren."},
	{"Try a sign-in", "Eine Anmeldung ausprobieren"},
	{"It came through", "Es kam durch"},
	{"Not at its end yet", "Noch nicht zu Ende"},
	{"It was refused", "Es wurde abgelehnt"},
	{"Reference", "Nummer"},
	{"What came from the provider", "Was vom Provider kam"},
	{"What the application gets", "Was die Anwendung bekommt"},
	{
		"Thank you: both sign-ins came through. %s sees whether something differs. You can close this page.",
		"Danke: beide Anmeldungen kamen durch. %s sieht, ob etwas abweicht. Sie können diese Seite schließen.",
	},
	{
		"%s asks for your help: sign-ins to %s are to move to another provider. Sign in first with the old one, then with the new one.",
		"%s bittet um Ihre Hilfe: Anmeldungen an %s sollen zu einem anderen Provider umziehen. Melden Sie sich erst mit dem alten an, " +
			"dann mit dem neuen.",
	},
	{"First with %s", "Erst mit %s"},
	{"Then with %s", "Dann mit %s"},
	{
		"Nothing reaches %s, and nothing of your account changes. What both providers say about you is compared.",
		"Nichts erreicht %s, und an Ihrem Konto ändert sich nichts. Verglichen wird, was beide Provider über Sie sagen.",
	},
	{"Do it once more", "Noch einmal"},
	{"This link is over", "Dieser Link ist vorbei"},
	{
		"The link was revoked, its time is over, or it was opened in as many browsers as it may be.",
		"Der Link wurde zurückgenommen, seine Zeit ist um, oder er wurde in so vielen Browsern geöffnet, wie es sein darf.",
	},
	{
		"The link was used by as many people as it was made for, or its time is over.",
		"Der Link wurde von so vielen Menschen benutzt, wie vorgesehen, oder seine Zeit ist um.",
	},
	{"Ask whoever gave it to you for another one.", "Bitten Sie die Stelle, die ihn Ihnen gegeben hat, um einen anderen."},
	{
		"We are the identity provider (IdP); %s is the service provider (SP).",
		"Wir sind der Identity Provider (IdP); %s ist der Service Provider (SP).",
	},
	{
		"We are the service provider (SP); %s is the identity provider (IdP).",
		"Wir sind der Service Provider (SP); %s ist der Identity Provider (IdP).",
	},
	{
		"We are the OpenID provider (OP); %s is the client (relying party).",
		"Wir sind der OpenID-Provider (OP); %s ist der Client (Relying Party).",
	},
	{
		"We are the client (relying party); %s is the OpenID provider (OP).",
		"Wir sind der Client (Relying Party); %s ist der OpenID-Provider (OP).",
	},
	{"We are the client; %s is the authorization server.", "Wir sind der Client; %s ist der Autorisierungsserver."},
	{
		"The gate stands in front of %s: people reach it through the gate alone.",
		"Das Gate steht vor %s: Menschen erreichen es nur durch das Gate.",
	},
	{"Neither an address nor a text was given.", "Es wurde weder eine Adresse noch ein Text angegeben."},
	{"There is nothing to compare.", "Es gibt nichts zu vergleichen."},
	{"No value in the text looks like one of ours.", "Kein Wert im Text sieht wie einer von unseren aus."},
})
