package redis

import (
	"errors"
	"fmt"
	"io"
	"iter"
	"strconv"
	"strings"

	"hemzo/internal/engine/redis/resp"
)

// command is one command of a source.
type command struct {
	words []string
	at    int // where it begins, in bytes
}

// isRDB reports whether a text is an RDB file.
func isRDB(text string) bool {
	return strings.HasPrefix(text, "REDIS") || strings.HasPrefix(text, "VALKEY")
}

// problem is what is wrong with a source, and where.
type problem struct {
	at   int // in bytes
	what string
}

// commands returns the commands of a text: lines of words, or RESP, which begins with "*".
// A problem is the last thing that is returned.
func commands(text string) iter.Seq2[command, *problem] {
	if strings.HasPrefix(text, "*") {
		return protocol(text)
	}
	return func(yield func(command, *problem) bool) {
		for at := 0; at < len(text); {
			end := strings.IndexByte(text[at:], '\n')
			if end < 0 {
				end = len(text) - at
			}
			words, wrong := split(strings.TrimSuffix(text[at:at+end], "\r"))
			if wrong != nil {
				wrong.at += at
				yield(command{}, wrong)
				return
			}
			if len(words) > 0 && !yield(command{words: words, at: at + indent(text[at:at+end])}, nil) {
				return
			}
			at += end + 1
		}
	}
}

func indent(line string) int { return len(line) - len(strings.TrimLeft(line, " \t")) }

// split cuts a line into words. In double quotes a backslash begins \n \r \t \a \b, two
// digits \xHH, or the character itself; in single quotes only \'. A line that begins with #
// is a comment.
func split(line string) (words []string, wrong *problem) {
	i := 0
	for {
		for i < len(line) && (line[i] == ' ' || line[i] == '\t') {
			i++
		}
		if i == len(line) || len(words) == 0 && line[i] == '#' {
			return words, nil
		}
		word, next, wrong := wordAt(line, i)
		if wrong != nil {
			return nil, wrong
		}
		words, i = append(words, word), next
	}
}

// wordAt reads the word that begins at i.
func wordAt(line string, i int) (word string, next int, wrong *problem) {
	if line[i] != '"' && line[i] != '\'' {
		for next = i; next < len(line) && line[next] != ' ' && line[next] != '\t'; next++ {
			if line[next] == '"' || line[next] == '\'' {
				return "", 0, &problem{next, "a quote stands inside a word: put the whole word in quotes"}
			}
		}
		return line[i:next], next, nil
	}
	var b strings.Builder
	quote := line[i]
	for next = i + 1; next < len(line); next++ {
		switch c := line[next]; {
		case c == quote:
			if next+1 < len(line) && line[next+1] != ' ' && line[next+1] != '\t' {
				return "", 0, &problem{next + 1, "a blank has to follow a quoted word"}
			}
			return b.String(), next + 1, nil
		case c == '\\' && next+1 < len(line) && quote == '"':
			next += escape(&b, line[next+1:])
		case c == '\\' && next+1 < len(line) && line[next+1] == '\'':
			b.WriteByte('\'')
			next++
		default:
			b.WriteByte(c)
		}
	}
	return "", 0, &problem{i, "a quote is opened here and never closed on its line"}
}

// escape writes what stands after a backslash, and returns how many bytes that took.
func escape(b *strings.Builder, rest string) int {
	if rest[0] == 'x' && len(rest) >= 3 {
		if n, err := strconv.ParseUint(rest[1:3], 16, 8); err == nil {
			b.WriteByte(byte(n))
			return 3
		}
	}
	if i := strings.IndexByte("nrtab", rest[0]); i >= 0 {
		b.WriteByte("\n\r\t\a\b"[i])
		return 1
	}
	b.WriteByte(rest[0])
	return 1
}

// protocol returns the commands of a text in RESP.
func protocol(text string) iter.Seq2[command, *problem] {
	return func(yield func(command, *problem) bool) {
		rest := strings.NewReader(text)
		in := resp.NewReader(rest)
		for {
			at := len(text) - rest.Len() - in.Buffered()
			v, err := in.Read()
			if errors.Is(err, io.EOF) {
				return
			}
			c := command{at: at}
			if err == nil && (v.Kind != resp.Array || len(v.Items) == 0) {
				err = errors.New("a command is an array of strings")
			}
			for _, w := range v.Items {
				if err == nil && w.Kind != resp.Bulk {
					err = errors.New("a command is an array of strings")
				}
				c.words = append(c.words, w.Text)
			}
			if errors.Is(err, io.ErrUnexpectedEOF) {
				err = errors.New("the file ends inside a command")
			}
			if err != nil {
				yield(command{}, &problem{at, err.Error()})
				return
			}
			if !yield(c, nil) {
				return
			}
		}
	}
}

// normalized are the commands of a text, each written in one way. What comes behind a
// problem counts as it stands.
func normalized(text string) iter.Seq[string] {
	return func(yield func(string) bool) {
		if isRDB(text) {
			yield(text)
			return
		}
		for c, wrong := range commands(text) {
			one := fmt.Sprintf("%q", c.words)
			if wrong != nil {
				one = text[wrong.at:]
			}
			if !yield(one) {
				return
			}
		}
	}
}
