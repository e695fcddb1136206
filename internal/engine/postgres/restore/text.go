package restore

import (
	"bytes"
	"strings"

	"hemzo/internal/engine/postgres/pg"
)

// literals are the values of a row in COPY's text format ("File Formats" in the manual's page
// on COPY), each as a statement has it.
func literals(line []byte) (values []string, err error) {
	for value := range bytes.SplitSeq(bytes.TrimSuffix(line, []byte("\n")), []byte("\t")) {
		if string(value) == `\N` {
			values = append(values, "NULL")
			continue
		}
		text, err := unescape(value)
		if err != nil {
			return nil, err
		}
		values = append(values, pg.Literal(text))
	}
	return values, nil
}

// escapeAll writes values as COPY does.
func escapeAll(values [][]byte) [][]byte {
	out := make([][]byte, len(values))
	for i, v := range values {
		for _, c := range v {
			if e := strings.IndexByte(escaped, c); e >= 0 {
				out[i] = append(out[i], '\\', escapedAs[e])
			} else {
				out[i] = append(out[i], c)
			}
		}
	}
	return out
}

// The bytes that COPY escapes, and what comes behind the backslash.
const escaped, escapedAs = "\b\f\n\r\t\v\\", `bfnrtv\`

func unescape(value []byte) (string, error) {
	var b strings.Builder
	for i := 0; i < len(value); i++ {
		c := value[i]
		if c == '\\' {
			if i++; i == len(value) {
				return "", errForm
			}
			e := strings.IndexByte(escapedAs, value[i])
			if e < 0 {
				return "", errForm
			}
			c = escaped[e]
		}
		b.WriteByte(c)
	}
	return b.String(), nil
}
