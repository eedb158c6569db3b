package scim_test

import (
	"testing"

	"innergate/core/scim"
)

func BenchmarkRead(b *testing.B) {
	data := []byte(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":"12","externalId":"01KABCDEF","userName":"hand1",
"active":true,"displayName":"Hand One","name":{"givenName":"Hand","familyName":"One"},
"emails":[{"value":"hand1@saltmere.example","type":"work","primary":true}],"meta":{"resourceType":"User","version":"W/\"3\""}}`)
	for b.Loop() {
		if _, err := scim.Read(data); err != nil {
			b.Fatal(err)
		}
	}
}
