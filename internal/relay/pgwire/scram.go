package pgwire

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgproto3"
)

// mechanism is the one that is offered.
const mechanism = "SCRAM-SHA-256"

// rounds is what every client takes: RFC 7677, section 4, wants no fewer.
const rounds = 4096

// errPassword says that a client does not know the password.
var errPassword = errors.New("the password is wrong")

// exchange checks a client's password by SCRAM-SHA-256 (RFC 5802, RFC 7677), without
// channel binding.
type exchange struct {
	*verifier
	nonce         []byte
	bare, server  string // what both have sent, for the signatures
	binding, both string
}

// verifier is what a password is checked by; it takes milliseconds to make, once.
type verifier struct{ salt, salted []byte }

func newVerifier(password string) (v *verifier, err error) {
	v = &verifier{salt: make([]byte, 16)}
	rand.Read(v.salt)
	v.salted, err = pbkdf2.Key(sha256.New, password, v.salt, rounds, sha256.Size)
	return v, err
}

// first answers the client's first message.
func (e *exchange) first(text string) (string, error) {
	header, bare, ok := strings.Cut(text, ",,")
	if !ok || header != "n" && header != "y" {
		return "", errors.New("channel binding is not offered")
	}
	e.bare, e.binding = bare, base64.StdEncoding.EncodeToString([]byte(header+",,"))
	nonce := attribute(bare, "r")
	if nonce == "" {
		return "", errors.New("the client sent no nonce")
	}
	e.both = nonce + base64.StdEncoding.EncodeToString(e.nonce)
	e.server = fmt.Sprintf("r=%s,s=%s,i=%d", e.both, base64.StdEncoding.EncodeToString(e.salt), rounds)
	return e.server, nil
}

// last checks the client's proof, and answers it.
func (e *exchange) last(text string) (string, error) {
	at := strings.LastIndex(text, ",p=")
	if at < 0 || attribute(text, "r") != e.both || attribute(text, "c") != e.binding {
		return "", errPassword
	}
	proof, err := base64.StdEncoding.DecodeString(text[at+3:])
	if err != nil || len(proof) != sha256.Size {
		return "", errPassword
	}
	signed := strings.Join([]string{e.bare, e.server, text[:at]}, ",")
	clientKey := sign(e.salted, "Client Key")
	stored := sha256.Sum256(clientKey)
	for i, b := range sign(stored[:], signed) {
		proof[i] ^= b
	}
	if !hmac.Equal(proof, clientKey) {
		return "", errPassword
	}
	return "v=" + base64.StdEncoding.EncodeToString(sign(sign(e.salted, "Server Key"), signed)), nil
}

func sign(key []byte, text string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}

func attribute(text, name string) string {
	for part := range strings.SplitSeq(text, ",") {
		if value, ok := strings.CutPrefix(part, name+"="); ok {
			return value
		}
	}
	return ""
}

// checkPassword has the client prove that it knows the password.
func (c *client) checkPassword() error {
	v, err := c.relay.verify()
	if err != nil {
		return err
	}
	e := &exchange{verifier: v, nonce: make([]byte, 18)}
	rand.Read(e.nonce)
	answer := func(m pgproto3.BackendMessage) (message, error) {
		if err := c.send(m); err != nil {
			return message{}, err
		}
		if err := c.out.Flush(); err != nil {
			return message{}, err
		}
		return readMessage(c.in, 1<<16)
	}
	m, err := answer(&pgproto3.AuthenticationSASL{AuthMechanisms: []string{mechanism}})
	if err != nil {
		return err
	}
	var initial pgproto3.SASLInitialResponse
	if m.kind != 'p' || initial.Decode(m.body) != nil || initial.AuthMechanism != mechanism {
		return errPassword
	}
	text, err := e.first(string(initial.Data))
	if err != nil {
		return err
	}
	m, err = answer(&pgproto3.AuthenticationSASLContinue{Data: []byte(text)})
	if err != nil {
		return err
	}
	if m.kind != 'p' {
		return errPassword
	}
	if text, err = e.last(string(m.body)); err != nil {
		return err
	}
	return c.send(&pgproto3.AuthenticationSASLFinal{Data: []byte(text)})
}
