package mariadb

import (
	"context"
	"encoding/json"

	"hemzo/internal/engine"
)

// TransactionsKept is for tests that ask again and again.
const TransactionsKept = transactionsKept

// WitnessOf opens a session on the server of work, for tests of the witness.
func WitnessOf(ctx context.Context, s engine.Server, e engine.Entry) (*Witness, error) {
	var at address
	if all, ok := s.(*shared); ok {
		at = all.locate(e)
	} else {
		var end engine.Endpoint
		if err := json.Unmarshal(e.Facts.Private, &end); err != nil {
			return nil, err
		}
		at = addressOf(end)
	}
	c, err := at.dial(ctx)
	if err == nil {
		err = plain(ctx, c)
	}
	return &Witness{c, at.Untrusted}, err
}

// Witness is such a session.
type Witness struct {
	*conn
	Untrusted string
}

// SelfTest runs the self-test, of another kind of work where one is given.
func (w *Witness) SelfTest(ctx context.Context, work, touches []string) (string, error) {
	if work == nil {
		return selfTest(ctx, w.conn, trials, true)
	}
	return selfTest(ctx, w.conn, []trial{{work, touches}}, false)
}

// TrustBuild asks what is remembered of it in a folder.
func (w *Witness) TrustBuild(ctx context.Context, kept string) (string, error) {
	return trustBuild(ctx, w.conn, kept, false)
}
