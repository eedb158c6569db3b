package explain

const (
	fragenSie     = " Bitte wenden Sie sich an die Stelle, die Ihr Konto betreut, und nennen Sie die Nummer unten."
	vonVorn       = " Bitte beginnen Sie in der Anwendung von vorn."
	nochmal       = " Bitte versuchen Sie es noch einmal."
	fragenDort    = " Bitte wenden Sie sich an die Stelle, die das Verzeichnis betreut, und nennen Sie ihr die Nummer unten."
	betreuteMelde = " Bitte melden Sie es der Stelle, die sich darum kümmert."
)

// german holds what people are told, in German. A test sees that nothing is missing.
var german = texts([][2]string{
	{
		"Your computer's own sign-in was not taken here. Please sign in another way, or ask the people who look after your " +
			"computer.",
		"Die Anmeldung Ihres Rechners wurde hier nicht angenommen. Bitte melden Sie sich auf einem anderen Weg an, oder wenden Sie " +
			"sich an die Stelle, die Ihren Rechner betreut.",
	},
	{
		"Your computer did not say who you are. Please ask the person who looks after your account, and give the number below.",
		"Ihr Rechner hat nicht gesagt, wer Sie sind." + fragenSie,
	},
	{
		"The clock of your computer seems to be wrong. Please ask the person who looks after your account, and give the number below.",
		"Die Uhr Ihres Rechners scheint falsch zu gehen." + fragenSie,
	},
	{
		"This sign-in was used already. Please start again.",
		"Diese Anmeldung wurde schon benutzt." + vonVorn,
	},
	{
		"The directory does not answer just now. Please try again in a moment.",
		"Das Verzeichnis antwortet gerade nicht. Bitte versuchen Sie es gleich noch einmal.",
	},
	{
		"The directory can't be reached safely. Please ask the person who looks after your account, and give the number below.",
		"Das Verzeichnis ist nicht sicher erreichbar." + fragenSie,
	},
	{
		"The directory does not let us ask it. Please ask the person who looks after your account, and give the number below.",
		"Das Verzeichnis lässt sich von uns nicht fragen." + fragenSie,
	},
	{
		"The directory could not look you up. Please ask the person who looks after your account, and give the number below.",
		"Das Verzeichnis konnte Sie nicht nachschlagen." + fragenSie,
	},
	{
		"More than one account there could be yours. Please ask the person who looks after your account, and give the " +
			"number below.",
		"Dort könnten mehrere Konten Ihres sein." + fragenSie,
	},
	{
		"The directory did not say who you are. Please ask the person who looks after your account, and give the number below.",
		"Das Verzeichnis hat nicht gesagt, wer Sie sind." + fragenSie,
	},
	{
		"Your password has expired. Please ask the people who look after the directory, and give them the number below.",
		"Ihr Passwort ist abgelaufen." + fragenDort,
	},
	{
		"You have to change your password before you can sign in. Please ask the people who look after the directory, " +
			"and give them the number below.",
		"Sie müssen Ihr Passwort ändern, bevor Sie sich anmelden können." + fragenDort,
	},
	{
		"Your account is locked there, after too many tries as a rule. Please ask the people who look after the " +
			"directory, and give them the number below.",
		"Ihr Konto ist dort gesperrt, meist nach zu vielen Versuchen." + fragenDort,
	},
	{
		"Your account there is switched off. Please ask the people who look after the directory, and give them the " +
			"number below.",
		"Ihr Konto dort ist abgeschaltet." + fragenDort,
	},
	{
		"The directory did not let you in. Please ask the people who look after the directory, and give them the number below.",
		"Das Verzeichnis hat Sie nicht eingelassen." + fragenDort,
	},
	{
		"Your provider did not sign you in. Please try again; if it goes on, tell the person who looks after it.",
		"Ihr Anmeldedienst hat Sie nicht angemeldet. Bitte versuchen Sie es noch einmal; wenn es so bleibt, melden Sie es der Stelle, " +
			"die sich darum kümmert.",
	},
	{
		"The application did not say for sure that it is you who wants to sign out. You can sign out here yourself.",
		"Die Anwendung hat nicht sicher gesagt, dass Sie es sind, der sich abmelden will. Sie können sich hier selbst abmelden.",
	},
	{
		"Signing out took too long. You can sign out here yourself.",
		"Das Abmelden hat zu lange gedauert. Sie können sich hier selbst abmelden.",
	},
	{
		"The application that you chose is not open to people of this provider. Please tell the person who looks after it.",
		"Die gewählte Anwendung steht den Leuten dieses Anmeldedienstes nicht offen. Bitte melden Sie es der Stelle, die sich darum " +
			"kümmert.",
	},
	{
		"The two systems don't agree with each other. Please tell the person who looks after it, with the number below.",
		"Die beiden Systeme sind sich nicht einig. Bitte melden Sie es der Stelle, die sich darum kümmert, mit " +
			"der Nummer unten.",
	},
	{
		"The two systems could not reach each other. Please try again; if it goes on, tell the person who looks after it.",
		"Die beiden Systeme konnten einander nicht erreichen. Bitte versuchen Sie es noch einmal; wenn es so bleibt, melden Sie es " +
			"der Stelle, die sich darum kümmert.",
	},
	{
		"Somebody else has the name here by which this application would know you. Please ask for help.",
		"Jemand anderes hat hier den Namen, unter dem diese Anwendung Sie führen würde. Bitte fragen Sie um Hilfe.",
	},
	{
		"You may not look after this gate until an owner has confirmed your provider.",
		"Sie können dieses Tor erst verwalten, wenn ein Eigentümer Ihren Anbieter bestätigt hat.",
	},
	{
		"Your account has a name that this application can't be given. Please ask for help.",
		"Ihr Konto hat einen Namen, den diese Anwendung nicht bekommen kann. Bitte fragen Sie um Hilfe.",
	},
	{
		"This trial can't go on before the change that it tries was approved.",
		"Dieser Versuch kann erst weitergehen, wenn die Änderung, die er erprobt, genehmigt wurde.",
	},
	{
		"The second application does not take the sign-in that you just made. Whoever asked you to try it sees why.",
		"Die zweite Anwendung nimmt die eben gemachte Anmeldung nicht an. Wer Sie um den Versuch gebeten hat, sieht den Grund.",
	},
	{
		"You have been signed out in the meantime. Please start again at the application.",
		"Sie wurden inzwischen abgemeldet." + vonVorn,
	},
	{
		"This sign-out is over, or was begun in another browser. Open the sign-out page again to be sure.",
		"Diese Abmeldung ist vorbei oder wurde in einem anderen Browser begonnen. Öffnen Sie die Abmeldeseite noch einmal, um " +
			"sicherzugehen.",
	},
	{
		"An application did not sign you out. Please sign out there yourself.",
		"Eine Anwendung hat Sie nicht abgemeldet. Bitte melden Sie sich dort selbst ab.",
	},
	{
		"This application is not open to everybody yet, and you are not among the first. Please ask its owner.",
		"Diese Anwendung ist noch nicht für alle offen, und Sie gehören nicht zu den Ersten. Bitte fragen Sie die zuständige Stelle.",
	},
	{
		"This way to sign in is not open to you yet. Please take the one that you took before, or ask for help.",
		"Dieser Weg zur Anmeldung ist für Sie noch nicht offen. Bitte nehmen Sie den bisherigen, oder fragen Sie um Hilfe.",
	},
	{
		"The application can't be opened yet. Please tell the person who looks after it.",
		"Die Anwendung kann noch nicht geöffnet werden. Bitte melden Sie es der Stelle, die sich darum kümmert.",
	},
	{
		"The sign-in goes round in a circle. Please wait a minute and try again; if it happens again, tell the person who looks after it.",
		"Die Anmeldung dreht sich im Kreis. Bitte warten Sie eine Minute und versuchen Sie es noch einmal; wenn es wieder geschieht, " +
			"melden Sie es der Stelle, die sich darum kümmert.",
	},
	{
		"This part of the application is closed.",
		"Dieser Teil der Anwendung ist geschlossen.",
	},
	{
		"This part of the application is not open to you. Please ask its owner.",
		"Dieser Teil der Anwendung ist für Sie nicht offen. Bitte fragen Sie die zuständige Stelle.",
	},
	{
		"This address is not written plainly. Please follow a link of the application.",
		"Diese Adresse ist nicht eindeutig geschrieben. Bitte folgen Sie einem Link der Anwendung.",
	},
	{
		"This way back is used up. Please open the application again.",
		"Dieser Rückweg ist verbraucht. Bitte öffnen Sie die Anwendung noch einmal.",
	},
	{
		"The application does not answer at the moment. Please try again later.",
		"Die Anwendung antwortet im Augenblick nicht. Bitte versuchen Sie es später noch einmal.",
	},
	{
		"The application takes too long to answer. Please try again later.",
		"Die Anwendung braucht zu lange für eine Antwort. Bitte versuchen Sie es später noch einmal.",
	},
	{
		"You are not signed in yet.",
		"Sie sind noch nicht angemeldet.",
	},
	{
		"You can't sign in to this account that way. Please ask the person who looks after your account, and give the number below.",
		"Bei diesem Konto können Sie sich so nicht anmelden." + fragenSie,
	},
	{
		"This sign-in was completed already. Please start again at the application.",
		"Diese Anmeldung ist bereits abgeschlossen." + vonVorn,
	},
	{
		"This application wants a stronger sign-in than the one you made.",
		"Diese Anwendung verlangt eine stärkere Anmeldung als Ihre.",
	},
	{
		"The application that sent you here is not registered. Please tell the person who looks after it.",
		"Die Anwendung, die Sie hierher geschickt hat, ist nicht eingetragen." + betreuteMelde,
	},
	{
		"Your session at the provider is over. Please try again.",
		"Ihre Sitzung beim Anmeldedienst ist zu Ende." + nochmal,
	},
	{
		"Your provider did not sign you in. If you did not cancel it yourself, please ask there for access.",
		"Ihr Anmeldedienst hat Sie nicht angemeldet. Wenn Sie nicht selbst abgebrochen haben, fragen Sie bitte dort nach Zugang.",
	},
	{
		"Your provider did not send all that is needed to sign you in.",
		"Ihr Anmeldedienst hat nicht alles gesendet, was für Ihre Anmeldung nötig ist.",
	},
	{
		"Your provider can't sign anybody in at the moment. Please try again later.",
		"Ihr Anmeldedienst kann im Augenblick niemanden anmelden. Bitte versuchen Sie es später noch einmal.",
	},
	{
		"Your profile has to be completed first. Please start again at the application.",
		"Ihr Profil muss zuerst vervollständigt werden." + vonVorn,
	},
	{
		"Your mail address has not been confirmed at the place where you signed in. Please confirm it there, then try again.",
		"Ihre Mailadresse ist dort, wo Sie sich angemeldet haben, nicht bestätigt. Bitte bestätigen Sie sie dort und versuchen Sie es " +
			"dann noch einmal.",
	},
	{
		"Your account lacks a value that this application needs.",
		"Ihrem Konto fehlt eine Angabe, die diese Anwendung braucht.",
	},
	{
		"Your account is switched off. Please ask for help.",
		"Ihr Konto ist abgeschaltet. Bitte fragen Sie um Hilfe.",
	},
	{
		"Your account here is written a little differently. Please ask the person who looks after your account, and give the number below.",
		"Ihr Konto ist hier etwas anders geschrieben." + fragenSie,
	},
	{
		"Your account here belongs to another sign-in. Please ask the person who looks after your account, and give the number below.",
		"Ihr Konto gehört hier zu einer anderen Anmeldung." + fragenSie,
	},
	{
		"You were signed in from an older session, and this sign-in wants a fresh one.",
		"Sie wurden aus einer älteren Sitzung angemeldet; hier wird eine frische Anmeldung verlangt.",
	},
	{
		"You signed in too long ago for this application. Please sign out at your provider, and try again.",
		"Ihre Anmeldung liegt für diese Anwendung zu lange zurück. Bitte melden Sie sich bei Ihrem Anmeldedienst ab und versuchen Sie " +
			"es noch einmal.",
	},
	{
		"You signed in as somebody else than the application asked for.",
		"Sie haben sich als jemand anderes angemeldet, als die Anwendung verlangt hat.",
	},
	{
		"You may not look after this gate. Please ask an owner.",
		"Sie dürfen dieses Gate nicht verwalten. Bitte fragen Sie jemanden, dem es gehört.",
	},
	{
		"You have to agree first. Please start again at the application.",
		"Sie müssen zuerst zustimmen." + vonVorn,
	},
	{
		"You have no access to this application. Ask its owner to be added.",
		"Sie haben keinen Zugang zu dieser Anwendung. Bitten Sie die zuständige Stelle, Sie aufzunehmen.",
	},
	{
		"You did not agree, so nothing was handed on.",
		"Sie haben nicht zugestimmt; es wurde nichts weitergegeben.",
	},
	{
		"You are signed out. Please sign in again.",
		"Sie sind abgemeldet. Bitte melden Sie sich noch einmal an.",
	},
	{
		"You are not signed in at your provider. Please sign in there.",
		"Sie sind bei Ihrem Anmeldedienst nicht angemeldet. Bitte melden Sie sich dort an.",
	},
	{
		"You are not known here yet. Please ask for access.",
		"Sie sind hier noch nicht bekannt. Bitte fragen Sie nach Zugang.",
	},
	{
		"You are in none of the groups that this application asks for.",
		"Sie sind in keiner der Gruppen, die diese Anwendung verlangt.",
	},
	{
		"Two accounts here could be yours. Please ask the person who looks after your account, and give the number below.",
		"Zwei Konten könnten hier Ihres sein." + fragenSie,
	},
	{
		"This sign-in was started in another browser, or was open for too long. Please start again at the application.",
		"Diese Anmeldung wurde in einem anderen Browser begonnen oder war zu lange offen." + vonVorn,
	},
	{
		"This sign-in took too long. Please try again.",
		"Diese Anmeldung hat zu lange gedauert." + nochmal,
	},
	{
		"This sign-in took too long. Please start again at the application.",
		"Diese Anmeldung hat zu lange gedauert." + vonVorn,
	},
	{
		"This sign-in took too long or was used already. Please start again at the application.",
		"Diese Anmeldung hat zu lange gedauert oder wurde schon benutzt." + vonVorn,
	},
	{
		"This sign-in page was open for too long. Please start again at the application.",
		"Diese Anmeldeseite war zu lange offen." + vonVorn,
	},
	{
		"This sign-in link was used already. Please start again at the application.",
		"Dieser Anmeldelink wurde schon benutzt." + vonVorn,
	},
	{
		"This sign-in link was used already or is too old. Please start again at the application.",
		"Dieser Anmeldelink wurde schon benutzt oder ist zu alt." + vonVorn,
	},
	{
		"This link is no longer good. Please ask for a new one.",
		"Dieser Link gilt nicht mehr. Bitte lassen Sie sich einen neuen geben.",
	},
	{
		"This link can't be opened through here.",
		"Dieser Link kann hier nicht geöffnet werden.",
	},
	{
		"This code is over. Please begin again on your device.",
		"Dieser Code ist abgelaufen. Bitte beginnen Sie auf Ihrem Gerät von vorn.",
	},
	{
		"This browser is in a rehearsal of another application.",
		"Dieser Browser ist gerade in der Probe einer anderen Anwendung.",
	},
	{
		"This browser has lost the sign-in. Perhaps it keeps no cookies, or the link was opened in another browser. Please start " +
			"again at the application.",
		"Dieser Browser hat die Anmeldung verloren. Vielleicht behält er keine Cookies, oder der Link wurde in einem anderen Browser " +
			"geöffnet." + vonVorn,
	},
	{
		"This application wants a stronger sign-in than your provider offers.",
		"Diese Anwendung verlangt eine stärkere Anmeldung, als Ihr Anmeldedienst sie anbietet.",
	},
	{
		"This application wants a stronger sign-in than your provider can prove.",
		"Diese Anwendung verlangt eine stärkere Anmeldung, als Ihr Anmeldedienst sie belegen kann.",
	},
	{
		"This application wants a sign-in that your provider can't give.",
		"Diese Anwendung verlangt eine Anmeldung, die Ihr Anmeldedienst nicht geben kann.",
	},
	{
		"This application wants a second factor, and you have none here yet. Please ask the person who looks after your account, and " +
			"give the number below.",
		"Diese Anwendung verlangt einen zweiten Faktor, und Sie haben hier noch keinen." + fragenSie,
	},
	{
		"This application is closed at present.",
		"Diese Anwendung ist zurzeit geschlossen.",
	},
	{
		"This application is being prepared and is not open yet.",
		"Diese Anwendung wird vorbereitet und ist noch nicht offen.",
	},
	{
		"This answer belongs to another sign-in. Please start again at the application.",
		"Diese Antwort gehört zu einer anderen Anmeldung." + vonVorn,
	},
	{
		"There were too many wrong tries. Please wait a quarter of an hour.",
		"Es gab zu viele falsche Versuche. Bitte warten Sie eine Viertelstunde.",
	},
	{
		"There are too many sign-ins just now. Please try again in a minute.",
		"Im Augenblick melden sich zu viele an. Bitte versuchen Sie es in einer Minute noch einmal.",
	},
	{
		"The way to sign in is closed at present.",
		"Dieser Weg der Anmeldung ist zurzeit geschlossen.",
	},
	{
		"The way to sign in is being prepared and is not open yet.",
		"Dieser Weg der Anmeldung wird vorbereitet und ist noch nicht offen.",
	},
	{
		"The rules of this application don't let you in.",
		"Die Regeln dieser Anwendung lassen Sie nicht ein.",
	},
	{
		"The rules of this application don't let you in now.",
		"Die Regeln dieser Anwendung lassen Sie jetzt nicht ein.",
	},
	{
		"The provider refused this sign-in. Perhaps you are not assigned to it.",
		"Der Anmeldedienst hat diese Anmeldung abgelehnt. Vielleicht sind Sie dort nicht zugeordnet.",
	},
	{
		"The provider did not say which application you want. Please start at the application.",
		"Der Anmeldedienst hat nicht gesagt, welche Anwendung Sie möchten. Bitte beginnen Sie in der Anwendung.",
	},
	{
		"The provider did not complete your sign-in. Perhaps you cancelled it, or may not use it.",
		"Der Anmeldedienst hat Ihre Anmeldung nicht abgeschlossen. Vielleicht haben Sie abgebrochen oder dürfen ihn nicht benutzen.",
	},
	{
		"The code for your mail address was wrong too often. Please begin again.",
		"Der Code für Ihre Mailadresse war zu oft falsch. Bitte beginnen Sie von vorn.",
	},
	{
		"The clocks of the two systems differ. Please try again in a minute.",
		"Die Uhren der beiden Systeme gehen verschieden. Bitte versuchen Sie es in einer Minute noch einmal.",
	},
	{
		"Something went wrong here. Please try again.",
		"Hier ist etwas schiefgegangen." + nochmal,
	},
	{
		"Somebody here has this mail address already, perhaps you. Please ask the person who looks after your account, and give the " +
			"number below.",
		"Jemand hat hier diese Mailadresse schon, vielleicht Sie selbst." + fragenSie,
	},
	{
		"Please start at the application's own address.",
		"Bitte beginnen Sie bei der Adresse der Anwendung.",
	},
	{
		"Please start at the application that you want to use.",
		"Bitte beginnen Sie in der Anwendung, die Sie benutzen möchten.",
	},
	{
		"Nothing was kept of you.",
		"Von Ihnen wurde nichts aufbewahrt.",
	},
	{
		"Nobody can sign in to this application yet.",
		"Bei dieser Anwendung kann sich noch niemand anmelden.",
	},
	{
		"Name or password was wrong.",
		"Name oder Passwort war falsch.",
	},
})

// Languages are those in which people are told what happened, the usual one first.
var Languages = []string{"en", "de"}

// PersonIn is what a person is told, in a language; in English where that is not known.
func PersonIn(language, text string) string {
	if language == "de" {
		if t, ok := german[text]; ok {
			return t
		}
	}
	return text
}

// texts are translations, found by what they translate.
func texts(pairs [][2]string) map[string]string {
	out := make(map[string]string, len(pairs))
	for _, p := range pairs {
		out[p[0]] = p[1]
	}
	return out
}
