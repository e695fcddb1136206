package pgwire

import "hemzo/internal/relay"

// stands are the beginnings of what gives the time at which the transaction began, in
// lower case.
var stands = []string{"now(", "now (", "current_timestamp", "current_date", "current_time", "localtime",
	"transaction_timestamp"}

// readsClock reports whether a text may ask for the time of the transaction. It is asked
// of each statement: it looks at the words' first letters alone.
func readsClock(text string) bool {
	inWord := false
	for i := 0; i < len(text); i++ {
		b := text[i] | 0x20
		starts := !inWord && (b == 'n' || b == 'c' || b == 'l' || b == 't')
		inWord = b >= 'a' && b <= 'z' || text[i] == '_' || text[i] >= '0' && text[i] <= '9' || text[i] >= 0x80
		if !starts {
			continue
		}
		for _, s := range stands {
			if len(text)-i >= len(s) && equalFold(text[i:i+len(s)], s) {
				return true
			}
		}
	}
	return false
}

// equalFold compares with a text in lower case; letters of ASCII alone are folded.
func equalFold(text, lower string) bool {
	for i := range len(lower) {
		b := text[i]
		if b >= 'A' && b <= 'Z' {
			b |= 0x20
		}
		if b != lower[i] {
			return false
		}
	}
	return true
}

// noteClock remarks a statement that asks for the time of the transaction.
func (c *client) noteClock(text string) {
	if !c.relay.clock.Load() && readsClock(text) {
		c.relay.clock.Store(true)
		c.relay.Remark(relay.Stands, text)
	}
}
