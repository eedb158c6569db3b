package bridge_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/bridge"
	"innergate/core/saml"
)

// TestSubjectFormat is what a subject rule's source stands for, unless a format is set (SAML Core, section 8.3).
func TestSubjectFormat(t *testing.T) {
	t.Parallel()
	assert.Equal(t, saml.FormatPersistent, bridge.SubjectFormat("pairwise", ""))
	assert.Equal(t, saml.FormatTransient, bridge.SubjectFormat("transient", ""))
	assert.Equal(t, saml.FormatUnspecified, bridge.SubjectFormat("profile", ""))
	assert.Equal(t, saml.FormatEmail, bridge.SubjectFormat("pairwise", saml.FormatEmail))
}

// TestContextOf writes wanted contexts as an exact request, which asks for nothing where there are none.
func TestContextOf(t *testing.T) {
	t.Parallel()
	assert.Nil(t, bridge.ContextOf(nil))
	wanted := []string{bridge.StrongContexts[0]}
	c := bridge.ContextOf(wanted)
	assert.True(t, c.Met(bridge.StrongContexts[0]))
	assert.False(t, c.Met(bridge.StrongContexts[1]))
	wanted[0] = "changed"
	assert.Equal(t, bridge.StrongContexts[0], c.Classes[0], "it is a copy")
}
