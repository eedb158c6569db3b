package oidc

// scopeWords says what a scope hands on, for people.
var scopeWords = map[string]string{
	"profile": "your name and what else stands in your profile", "email": "your mail address", "address": "your postal address",
	"phone": "your telephone number", "groups": "the groups that you belong to",
	"offline_access": "access while you are away, until you take it back",
}
