package server

import (
	"fmt"
	"html/template"
	"slices"

	"github.com/gofiber/fiber/v3"
	"golang.org/x/text/language"

	"innergate/core/config"
	"innergate/core/explain"
)

// languageOf is the language in which a browser's person is spoken to: the one that is set for everybody, or what the
// browser wishes (RFC 9110, section 12.5.4).
func (s *Server) languageOf(c fiber.Ctx) string {
	if set := s.looks(c).Language; slices.Contains(s.offered, set) {
		return set
	}
	tags, _, err := language.ParseAcceptLanguage(c.Get("Accept-Language"))
	if err != nil || len(tags) == 0 || len(tags) > 50 {
		return s.offered[0]
	}
	_, i, _ := s.matcher.Match(tags...)
	return s.offered[i]
}

// looks is how pages look. Where it can't be read they have the gate's own look: nobody is kept from signing in by it.
func (s *Server) looks(c fiber.Ctx) config.Pages {
	p, err := s.Gate.Portal.Pages(c.Context())
	if err != nil {
		return config.Pages{}
	}
	return p
}

// said is a text in a language, with values in the places of %s. What is not known in it is said in English.
func said(lang, text string, values ...any) string {
	if lang == "de" {
		if t, ok := german[text]; ok {
			text = t
		} else {
			text = explain.PersonIn(lang, text)
		}
	} else if t, ok := inTongue(lang, text); ok {
		text = t
	}
	if len(values) == 0 {
		return text
	}
	return fmt.Sprintf(text, values...)
}

// strong is the same with the values in bold.
func strong(lang, text string, values ...string) template.HTML {
	var bold []any
	for _, v := range values {
		bold = append(bold, "<strong>"+template.HTMLEscapeString(v)+"</strong>")
	}
	return template.HTML(said(lang, template.HTMLEscapeString(text), bold...))
}

// texts are translations, found by what they translate.
func texts(pairs [][2]string) map[string]string {
	out := make(map[string]string, len(pairs))
	for _, p := range pairs {
		out[p[0]] = p[1]
	}
	return out
}

// german holds the pages' texts. A test sees that nothing is missing.
var german = texts([][2]string{
	{"Help", "Hilfe"},
	{"Search", "Suche"},
	{
		"%s asks for more than a password. Scan this with an authenticator, or type the secret into it; then enter the code that it shows.",
		"%s verlangt mehr als ein Passwort. Lesen Sie dies mit einer Authenticator-App ein oder tippen Sie das Geheimnis dort ab; " +
			"geben Sie dann den Code ein, den sie zeigt.",
	},
	{"%s asks to know who you are.", "%s möchte wissen, wer Sie sind."},
	{"%s asks to know:", "%s möchte wissen:"},
	{"%s asks you to try a sign-in.", "%s bittet Sie, eine Anmeldung auszuprobieren."},
	{
		"A code was sent to %s. Enter it to show that the address is yours.",
		"An %s wurde ein Code gesandt. Geben Sie ihn ein, um zu zeigen, dass die Adresse Ihre ist.",
	},
	{"About %s:", "Über %s:"},
	{"Your applications", "Ihre Anwendungen"},
	{"Find", "Suchen"},
	{"Used lately", "Zuletzt benutzt"},
	{"All", "Alle"},
	{"Keep %s in front", "%s vorn behalten"},
	{"Don't keep %s in front any more", "%s nicht mehr vorn behalten"},
	{"Nothing here is called so.", "Nichts heißt hier so."},
	{"Show all", "Alle zeigen"},
	{
		"There is no application for you yet. Whoever looks after your account can give you some.",
		"Für Sie ist noch keine Anwendung da. Die Stelle, die Ihr Konto betreut, kann Ihnen welche geben.",
	},
	{"Looking after the gate? To the console.", "Sie verwalten das Gate? Zur Konsole."},
	{"About you", "Über Sie"},
	{"Name", "Name"},
	{"Mail address", "Mailadresse"},
	{"You sign in as", "Sie melden sich an als"},
	{"You can sign in with", "Sie können sich anmelden mit"},
	{"What you sign in with, besides your password", "Womit Sie sich außer mit dem Passwort anmelden"},
	{"An app that makes codes", "Eine App, die Codes erzeugt"},
	{"Passkey", "Passkey"},
	{"Recovery codes", "Ersatzcodes"},
	{"%d are left", "%d sind übrig"},
	{"Take away", "Wegnehmen"},
	{
		"What you take away you can set up anew at the next sign-in. You are signed out everywhere then.",
		"Was Sie wegnehmen, können Sie bei der nächsten Anmeldung neu einrichten. Sie werden dabei überall abgemeldet.",
	},
	{
		"Nothing yet. Where more is demanded, you are asked to set it up when you sign in.",
		"Noch nichts. Wo mehr verlangt wird, werden Sie bei der Anmeldung gebeten, es einzurichten.",
	},
	{"Where you are signed in", "Wo Sie angemeldet sind"},
	{"this browser", "dieser Browser"},
	{"since %s", "seit %s"},
	{"Sign out everywhere but here", "Überall außer hier abmelden"},
	{
		"If you do not know one of these, sign it out and tell the person who looks after your account.",
		"Wenn Sie eine davon nicht kennen, melden Sie sie ab und sagen Sie es der Stelle, die Ihr Konto betreut.",
	},
	{"Begin", "Beginnen"},
	{"Choose a password", "Ein Passwort wählen"},
	{"Code", "Code"},
	{"Don’t go on", "Nicht weiter"},
	{"Enter one of your recovery codes.", "Geben Sie einen Ihrer Ersatzcodes ein."},
	{
		"Enter the code that your authenticator shows now, or one of your recovery codes.",
		"Geben Sie den Code ein, den Ihre Authenticator-App jetzt zeigt, oder einen Ihrer Ersatzcodes.",
	},
	{"Go back to %s", "Zurück zu %s"},
	{"Go on", "Weiter"},
	{"Go on to %s", "Weiter zu %s"},
	{"Go on to %s?", "Weiter zu %s?"},
	{"I have kept them", "Ich habe sie aufbewahrt"},
	{
		"If you did not want to sign out, simply close this page.",
		"Wenn Sie sich nicht abmelden wollten, schließen Sie einfach diese Seite.",
	},
	{"Is this right?", "Stimmt das so?"},
	{"Is this your mail address?", "Ist das Ihre Mailadresse?"},
	{
		"It begins at the application, as if you had opened it yourself.",
		"Sie beginnt in der Anwendung, als hätten Sie diese selbst geöffnet.",
	},
	{
		"It begins here, as from a tile, and ends in the application.",
		"Sie beginnt hier, wie von einer Kachel aus, und endet in der Anwendung.",
	},
	{"It is right, go on", "Es stimmt, weiter"},
	{"Keep it", "Behalten"},
	{"Keep nothing of me", "Nichts von mir aufbewahren"},
	{
		"Keep these in a safe place. Each lets you in once, if you ever lose your authenticator. They are shown only now.",
		"Bewahren Sie diese an einem sicheren Ort auf. Jeder lässt Sie einmal ein, falls Sie Ihren Authenticator verlieren. Sie " +
			"werden nur jetzt gezeigt.",
	},
	{"New password", "Neues Passwort"},
	{"Old password", "Altes Passwort"},
	{"Signing you in", "Sie werden angemeldet"},
	{"Sign in another way", "Auf einem anderen Weg anmelden"},
	{
		"Your computer is asked who you are. If it does not say, you go on by another way.",
		"Ihr Rechner wird gefragt, wer Sie sind. Sagt er es nicht, geht es auf einem anderen Weg weiter.",
	},
	{"Your password at %s", "Ihr Passwort bei %s"},
	{"Change it", "Ändern"},
	{"You are not signed in.", "Sie sind nicht angemeldet."},
	{
		"There were too many wrong tries. Please wait a quarter of an hour.",
		"Es gab zu viele Fehlversuche. Bitte warten Sie eine Viertelstunde.",
	},
	{"Change the password", "Passwort ändern"},
	{"Your password is changed", "Ihr Passwort ist geändert"},
	{"Your password was not changed", "Ihr Passwort wurde nicht geändert"},
	{"From now on the new one counts.", "Von jetzt an gilt das neue."},
	{"The password can't be changed here.", "Das Passwort kann hier nicht geändert werden."},
	{"Change it and go on", "Ändern und weiter"},
	{
		"You have to change your password there before you can go on.",
		"Sie müssen Ihr Passwort dort ändern, bevor es weitergeht.",
	},
	{"The two passwords differ.", "Die beiden Passwörter sind verschieden."},
	{"Enter both passwords.", "Geben Sie beide Passwörter ein."},
	{"You may not change your password yourself.", "Sie dürfen Ihr Passwort nicht selbst ändern."},
	{"Your old password is wrong.", "Ihr altes Passwort ist falsch."},
	{"The new password is too simple.", "Das neue Passwort ist zu einfach."},
	{"The new password is too short or too simple.", "Das neue Passwort ist zu kurz oder zu einfach."},
	{"The new password is too short.", "Das neue Passwort ist zu kurz."},
	{"You have changed your password too short a time ago.", "Sie haben Ihr Passwort vor zu kurzer Zeit geändert."},
	{"You have had this password before.", "Dieses Passwort hatten Sie schon einmal."},
	{"The directory did not take the new password.", "Das Verzeichnis hat das neue Passwort nicht angenommen."},
	{"Once more", "Noch einmal"},
	{"One moment", "Einen Moment"},
	{"Many people are signing in right now", "Gerade melden sich sehr viele an"},
	{
		"Please wait a few seconds, then go back and try again.",
		"Bitte warten Sie einige Sekunden; gehen Sie dann zurück und versuchen Sie es noch einmal.",
	},
	{"Or enter one of your recovery codes.", "Oder geben Sie einen Ihrer Ersatzcodes ein."},
	{
		"Or enter the code that your authenticator shows now, or one of your recovery codes.",
		"Oder geben Sie den Code ein, den Ihre Authenticator-App jetzt zeigt, oder einen Ihrer Ersatzcodes.",
	},
	{"Password", "Passwort"},
	{"Reference number, with which your help desk sees what happened", "Nummer, mit der Ihre Hilfestelle sieht, was geschehen ist"},
	{"Rehearsal: sign out", "Probe: Abmeldung"},
	{
		"You have signed in. Now sign out of everything that you went to.",
		"Sie haben sich angemeldet. Melden Sie sich jetzt von allem ab, wo Sie waren.",
	},
	{
		"You have signed in to the first application. The second one must not ask you anything.",
		"Sie haben sich bei der ersten Anwendung angemeldet. Die zweite darf Sie nichts fragen.",
	},
	{
		"Another step follows: come back to this page when you are through.",
		"Es folgt noch ein Schritt: Kommen Sie auf diese Seite zurück, wenn Sie fertig sind.",
	},
	{
		"By this name there is no single way. Where do you have your account?",
		"Unter diesem Namen gibt es nicht nur einen Weg. Wo haben Sie Ihr Konto?",
	},
	{"the last time", "das letzte Mal"},
	{"Or tell who you are: mail address or name", "Oder sagen Sie, wer Sie sind: Mailadresse oder Name"},
	{"Mail address or name", "Mailadresse oder Name"},
	{"You sign in at %s.", "Sie melden sich bei %s an."},
	{"Rehearsal: sign in to %s", "Probe: Anmeldung bei %s"},
	{"Secret", "Geheimnis"},
	{"Send another code", "Einen anderen Code senden"},
	{"Set up a passkey instead", "Stattdessen einen Passkey einrichten"},
	{"Set up a second factor", "Einen zweiten Faktor einrichten"},
	{"Sign in", "Anmelden"},
	{"Sign in on another device", "Auf einem anderen Gerät anmelden"},
	{"Sign in to %s", "Bei %s anmelden"},
	{"Sign in with a passkey", "Mit einem Passkey anmelden"},
	{"Sign out", "Abmelden"},
	{"Sign out here", "Hier abmelden"},
	{"Start again at %s", "Bei %s von vorn beginnen"},
	{
		"The answer goes to a program on this computer. Go on only if you have just started %s yourself.",
		"Die Antwort geht an ein Programm auf diesem Rechner. Gehen Sie nur weiter, wenn Sie %s gerade selbst gestartet haben.",
	},
	{"The secret as a picture for an authenticator", "Das Geheimnis als Bild für eine Authenticator-App"},
	{
		"Type the code that your device shows. Only go on if the device is in your own hands: whoever sent you a code would be signed " +
			"in as you.",
		"Tippen Sie den Code ein, den Ihr Gerät zeigt. Gehen Sie nur weiter, wenn Sie das Gerät selbst in Händen haben: Wer Ihnen " +
			"einen Code geschickt hat, würde als Sie angemeldet.",
	},
	{"Use another address", "Eine andere Adresse nehmen"},
	{"Use your passkey", "Ihren Passkey benutzen"},
	{
		"What your provider says about you will be seen by %s. Nobody else is touched by it.",
		"Was Ihr Anmeldedienst über Sie sagt, wird %s sehen. Sonst berührt es niemanden.",
	},
	{"Where do you have your account?", "Wo haben Sie Ihr Konto?"},
	{"You are being sent on.", "Sie werden weitergeleitet."},
	{"You are signed in as %s.", "Sie sind als %s angemeldet."},
	{
		"You come to %s for the first time. This is what %s says of you, and what will be kept.",
		"Sie kommen zum ersten Mal zu %s. Dies sagt %s über Sie, und dies wird aufbewahrt.",
	},
	{"Your role there will be %s.", "Ihre Rolle dort wird sein: %s."},
	{
		"You did not type the code of the other device: a link brought it. Go on only if you opened that link from a device in your " +
			"own hands. Whoever sent it to you would be signed in as you.",
		"Sie haben den Code des anderen Geräts nicht eingegeben: Ein Link hat ihn mitgebracht. Gehen Sie nur weiter, wenn Sie den " +
			"Link von einem Gerät in Ihren eigenen Händen geöffnet haben. Wer ihn Ihnen geschickt hat, würde als Sie angemeldet.",
	},
	{
		"You typed the code of another device. Go on only if that device is in your own hands.",
		"Sie haben den Code eines anderen Geräts eingegeben. Gehen Sie nur weiter, wenn Sie dieses Gerät selbst in Händen haben.",
	},
	{
		"Your browser gave no passkey: it was given up, or there is none for this page.",
		"Ihr Browser hat keinen Passkey gegeben: Es wurde abgebrochen, oder es gibt keinen für diese Seite.",
	},
	{"Your recovery codes", "Ihre Ersatzcodes"},
	{"Your second factor", "Ihr zweiter Faktor"},
	{"home page", "Startseite"},
	{"privacy", "Datenschutz"},
	{"terms", "Bedingungen"},
	// What is said by the gate, or set beside a page.
	{"You could not be signed in", "Sie konnten nicht angemeldet werden"},
	{"You could not be signed in to %s", "Sie konnten bei %s nicht angemeldet werden"},
	{"What happened: %s.", "Was geschah (englisch): %s."},
	{"Name or password is wrong.", "Name oder Passwort ist falsch."},
	{"The code is wrong, or was used already.", "Der Code ist falsch oder wurde schon benutzt."},
	{
		"This is not the code that the authenticator shows for this secret. Is the clock of the device right?",
		"Das ist nicht der Code, den die Authenticator-App für dieses Geheimnis zeigt. Geht die Uhr des Geräts richtig?",
	},
	{
		"This passkey could not be taken: it is not known here, or not good any more.",
		"Dieser Passkey wurde nicht angenommen: Er ist hier nicht bekannt oder gilt nicht mehr.",
	},
	{
		"The passkey could not be taken. Please try again, or use an authenticator.",
		"Der Passkey wurde nicht angenommen. Bitte versuchen Sie es noch einmal, oder nehmen Sie eine Authenticator-App.",
	},
	{"Please enter your name.", "Bitte geben Sie Ihren Namen ein."},
	{"This is not the code that was sent, or it is over.", "Das ist nicht der gesandte Code, oder er ist abgelaufen."},
	{
		"No more codes are sent in this sign-in. Please begin again.",
		"In dieser Anmeldung werden keine Codes mehr gesandt. Bitte beginnen Sie von vorn.",
	},
	{
		"Too many codes were sent. Please wait a quarter of an hour.",
		"Es wurden zu viele Codes gesandt. Bitte warten Sie eine Viertelstunde.",
	},
	{
		"The code could not be sent. Please check the address, or try again later.",
		"Der Code konnte nicht gesandt werden. Bitte prüfen Sie die Adresse, oder versuchen Sie es später noch einmal.",
	},
	{"The sign-out did not work", "Die Abmeldung ist nicht gelungen"},
	{"Signing out", "Abmeldung"},
	{"Applications are being told. One moment, please.", "Anwendungen wird es mitgeteilt. Einen Moment, bitte."},
	{"the next step", "dem nächsten Schritt"},
	{"You are signed out, but not everywhere", "Sie sind abgemeldet, aber nicht überall"},
	{
		"Inner Gate holds no session of this browser, and has forgotten every sign-in that it had begun. Your provider may still know " +
			"you: sign out there as well, or close the browser.",
		"Inner Gate hat keine Sitzung dieses Browsers und hat jede Anmeldung vergessen, die er begonnen hatte. Ihr Anmeldedienst " +
			"kennt Sie vielleicht noch: Melden Sie sich auch dort ab, oder schließen Sie den Browser.",
	},
	{"This address takes logout messages", "Diese Adresse nimmt Abmeldenachrichten an"},
	{
		"It is the single logout service of Inner Gate: applications and providers send signed messages here. You can sign out " +
			"without one.",
		"Hier ist der Single-Logout-Dienst von Inner Gate: Anwendungen und Anmeldedienste senden signierte Nachrichten hierher. Sie " +
			"können sich auch ohne eine abmelden.",
	},
	{"These know that you are signed out:", "Diese wissen, dass Sie abgemeldet sind:"},
	{
		"These did not answer, and may still know you. Close the browser, or sign out there yourself:",
		"Diese haben nicht geantwortet und kennen Sie vielleicht noch. Schließen Sie den Browser, oder melden Sie sich dort selbst ab:",
	},
	{
		"These can't be told, and may still know you. Close the browser, or sign out there yourself:",
		"Diesen kann es niemand mitteilen; sie kennen Sie vielleicht noch. Schließen Sie den Browser, oder melden Sie sich dort selbst ab:",
	},
	{"A sign-in elsewhere has ended", "Eine Anmeldung anderswo ist beendet"},
	{
		"The sign-in of %s in another browser has ended. This browser's own goes on.",
		"Die Anmeldung von %s in einem anderen Browser ist beendet. Die Anmeldung in diesem Browser läuft weiter.",
	},
	{"You are signed out", "Sie sind abgemeldet"},
	{"You are signed out here", "Sie sind hier abgemeldet"},
	{"Sign out?", "Abmelden?"},
	{"Somebody asked the gate to sign you out.", "Jemand hat das Gate gebeten, Sie abzumelden."},
	{"Inner Gate has ended the sign-in.", "Inner Gate hat die Anmeldung beendet."},
	{"Inner Gate and your provider have ended the sign-in.", "Inner Gate und Ihr Anmeldedienst haben die Anmeldung beendet."},
	{
		"Inner Gate has forgotten what this browser had begun. It does not know which sign-in was meant, so the application may still " +
			"know you.",
		"Inner Gate hat vergessen, was dieser Browser begonnen hatte. Es weiß nicht, welche Anmeldung gemeint war; die Anwendung " +
			"kennt Sie vielleicht noch.",
	},
	{"Your password is set", "Ihr Passwort ist gesetzt"},
	{
		"You can sign in with it now. Whatever was open under the old one has ended.",
		"Sie können sich jetzt damit anmelden. Was unter dem alten offen war, ist beendet.",
	},
	{"The link is not good any more", "Der Link gilt nicht mehr"},
	{
		"%s, you sign in as %s. At least 12 characters; a few words in a row are easy to remember and hard to guess.",
		"%s, Sie melden sich als %s an. Mindestens 12 Zeichen; ein paar Wörter hintereinander sind leicht zu merken und schwer zu erraten.",
	},
	{"The two entries are not the same.", "Die beiden Eingaben sind nicht gleich."},
	{"Done", "Fertig"},
	{
		"This rehearsal ends here, before the application. Whoever asked you to try it sees what your provider sent.",
		"Diese Probe endet hier, vor der Anwendung. Wer Sie darum gebeten hat, sieht, was Ihr Anmeldedienst gesendet hat.",
	},
	{"Go on?", "Weiter?"},
	{"Your profile", "Ihr Profil"},
	{"Rehearsal", "Probe"},
	{"Full name", "Name"},
	{"Given name", "Vorname"},
	{"Family name", "Nachname"},
	{"Telephone number", "Telefonnummer"},
	{"User name", "Benutzername"},
	{"your name and what else stands in your profile", "Ihren Namen und was sonst in Ihrem Profil steht"},
	{"your mail address", "Ihre Mailadresse"},
	{"your postal address", "Ihre Postanschrift"},
	{"your telephone number", "Ihre Telefonnummer"},
	{"the groups that you belong to", "die Gruppen, denen Sie angehören"},
	{"access while you are away, until you take it back", "Zugang auch in Ihrer Abwesenheit, bis Sie ihn zurücknehmen"},
})
