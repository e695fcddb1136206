package service

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestNoProxy: what a service says is asked at the address where it is
// published, whatever proxy the environment names.
func TestNoProxy(t *testing.T) {
	assert.Nil(t, direct.Transport.(*http.Transport).Proxy)
}
