package transport

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

const (
	maxMessage = 64 << 20 // bytes of one message
	maxHeader  = 1 << 10  // bytes of what comes before one
)

// Frames writes and reads JSON messages with a Content-Length header before each, as the language server
// protocol has them. Anything but a message is an error that ends the connection.
type Frames struct{}

// WriteObject writes one message.
func (Frames) WriteObject(w io.Writer, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(w, "Content-Length: %d\r\n\r\n%s", len(body), body)
	return err
}

// ReadObject reads one message, of 64 MB at most.
func (Frames) ReadObject(r *bufio.Reader, v any) error {
	length, read := -1, 0
	for {
		line, err := r.ReadSlice('\n')
		if read += len(line); err == bufio.ErrBufferFull || read > maxHeader {
			return errNoMessage
		}
		if err != nil {
			if err == io.EOF && read > 0 {
				return io.ErrUnexpectedEOF
			}
			return err
		}
		text := strings.TrimRight(string(line), "\r\n")
		if text == "" {
			break
		}
		name, is, ok := strings.Cut(text, ":")
		if !ok {
			return errNoMessage
		}
		if strings.EqualFold(name, "Content-Length") {
			if length, err = strconv.Atoi(strings.TrimSpace(is)); err != nil {
				return errNoMessage
			}
		}
	}
	if length < 0 || length > maxMessage {
		return fmt.Errorf("it wrote a message of %d bytes", length)
	}
	var body bytes.Buffer // grows with what comes, not with what was announced
	if _, err := io.CopyN(&body, r, int64(length)); err != nil {
		return io.ErrUnexpectedEOF
	}
	if err := json.Unmarshal(body.Bytes(), v); err != nil {
		return errNoMessage
	}
	return nil
}

var errNoMessage = errors.New("it wrote something other than a message")
