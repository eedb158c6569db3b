package alike_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/alike"
)

func TestNearest(t *testing.T) {
	names := []string{"startUrl", "entityId", "requireSignedRequests", "saml"}
	for given, want := range map[string]string{"start_url": "startUrl", "startUlr": "startUrl", "entityID": "entityId",
		"requireSignedRequest": "requireSignedRequests", "smal": "saml", "colour": ""} {
		assert.Equal(t, want, alike.Nearest(given, names), given)
	}
}
