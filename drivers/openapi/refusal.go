package openapi

import (
	"cmp"
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"kasbah/core/driver"
	"kasbah/core/form"
	"kasbah/core/value"
)

// refusal reads an error answer: RFC 9457 where it is one, what the document says
// of its refusals otherwise, and what most APIs do at last. keyed says that the request
// carried an idempotency key.
func refusal(r *reply, how *refusalsExtension, keyed bool) error {
	unsaid := cmp.Or(http.StatusText(r.status), "it answers "+strconv.Itoa(r.status))
	e := &driver.Error{Message: unsaid}
	if s := r.header.Get("Retry-After"); s != "" {
		e.After = retryAfter(s)
	}
	switch r.status {
	case http.StatusTooManyRequests, http.StatusServiceUnavailable, http.StatusBadGateway, http.StatusGatewayTimeout,
		http.StatusRequestTimeout, http.StatusTooEarly:
		e.Passing = true
	}
	e.SlowDown = r.status == http.StatusTooManyRequests || r.status == http.StatusServiceUnavailable && e.After > 0
	media, _, _ := mime.ParseMediaType(r.header.Get("Content-Type"))
	if v, err := value.Parse(r.body); err == nil && (media == problemType || media == "application/json" ||
		strings.HasSuffix(media, "+json")) {
		explain(e, v, how.or(media))
	} else if text := strings.TrimSpace(string(r.body)); (media == "text/plain" || media == "") && text != "" &&
		len(text) <= maxPlain && !strings.Contains(text, "\n") {
		e.Message += ": " + text
	}
	said := e.Message != unsaid || len(e.Problems) > 0
	switch {
	case slices.Contains(refusing, r.status):
		e.NotDone = true
	case r.status == http.StatusTooManyRequests, r.status == http.StatusServiceUnavailable:
		e.NotDone = e.After > 0
	case r.status == http.StatusConflict && keyed && inProgress(r, e):
		e.Passing = true
	case r.status == http.StatusConflict:
		e.NotDone = said
	}
	if len(e.Problems) == 0 {
		e.Message = fmt.Sprintf("%s (%s answers %d)", e.Message, r.asked, r.status)
	}
	switch r.status {
	case http.StatusNotFound, http.StatusGone:
		return fmt.Errorf("%w: %w", driver.ErrGone, e)
	case http.StatusPreconditionFailed:
		return fmt.Errorf("%w: %w", driver.ErrTag, e)
	}
	return e
}

// refusing are the statuses that say of a write that it was not done (RFC 9110, 15.5;
// RFC 4918; RFC 6585; RFC 7725). 409, 429 and 503 depend on what else the answer says.
var refusing = []int{
	http.StatusBadRequest, http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound,
	http.StatusMethodNotAllowed,
	http.StatusNotAcceptable, http.StatusGone, http.StatusLengthRequired, http.StatusPreconditionFailed,
	http.StatusRequestEntityTooLarge,
	http.StatusUnsupportedMediaType, http.StatusMisdirectedRequest, http.StatusUnprocessableEntity, http.StatusLocked,
	http.StatusPreconditionRequired, http.StatusRequestHeaderFieldsTooLarge, http.StatusUnavailableForLegalReasons,
}

// inProgress reports whether a 409 says that a request with the same key is being worked
// on, rather than that the thing conflicts with another one. The draft of the HTTP
// working group on the Idempotency-Key header field has this answer, without a form.
func inProgress(r *reply, e *driver.Error) bool {
	return r.header.Get("Retry-After") != "" || busyWords().MatchString(e.Error()) ||
		busyWords().Match(r.body[:min(len(r.body), maxWords)])
}

var busyWords = form.Of(`(?i)in[ _-]?progress|idempoten|being (processed|handled)|still (running|processing|being)|processing|concurrent|outstanding`)

func retryAfter(s string) time.Duration {
	if n, err := strconv.Atoi(s); err == nil && n >= 0 {
		return time.Duration(min(n, 3600)) * time.Second
	}
	if t, err := http.ParseTime(s); err == nil {
		return min(max(0, time.Until(t)), time.Hour)
	}
	return 0
}

const problemType = "application/problem+json"

// maxWords bounds what is told of a refusal: some answer with whole pages.
const maxWords = 2000

// maxPlain bounds the line of text that some answer with.
const maxPlain = 200

// or is how to read a refusal of a media type.
func (x *refusalsExtension) or(media string) refusalsExtension {
	switch {
	case media == problemType:
		return refusalsExtension{Message: []string{"detail", "title"}, Errors: []string{"errors"},
			At: []string{"pointer"}, Says: []string{"detail"}}
	case x != nil:
		return *x
	}
	return refusalsExtension{
		Message: []string{"detail", "message", "error.message", "error.detail", "error_description", "error", "title"},
		Errors:  []string{"errors", "details"}, At: []string{"pointer", "field", "path", "attribute"},
		Says: []string{"detail", "message", "reason"},
	}
}

// explain takes over what an answer says in words.
func explain(e *driver.Error, v any, how refusalsExtension) {
	first := func(v any, places []string) string {
		for _, p := range places {
			if s, ok := dig(v, p).(string); ok && s != "" {
				return s[:min(len(s), maxWords)]
			}
		}
		return ""
	}
	e.Message = cmp.Or(first(v, how.Message), e.Message)
	var wrong any
	for i, place := range how.Errors {
		wrong = dig(v, place)
		if _, list := wrong.([]any); list || i == 0 && wrong != nil { // what else is called details may be anything
			break
		}
	}
	switch list := wrong.(type) {
	case []any:
		for _, x := range list {
			if says := first(x, how.Says); says != "" {
				e.Problems = append(e.Problems, driver.Problem{Path: attributePath(first(x, how.At)), Message: says})
			}
		}
	case map[string]any: // by attribute
		for _, at := range value.Keys(list) {
			says := text(list[at])
			if all, ok := list[at].([]any); ok && len(all) > 0 {
				says = text(all[0])
			}
			e.Problems = append(e.Problems, driver.Problem{Path: attributePath(at),
				Message: says[:min(len(says), maxWords)]})
		}
	}
}

// attributePath is the path of an attribute, which an API writes as a JSON pointer
// (RFC 6901) or as names with dots and brackets.
func attributePath(s string) string {
	if strings.HasPrefix(s, "/") || strings.HasPrefix(s, "#/") {
		return value.FromPointer(strings.TrimPrefix(s, "#")).String()
	}
	return s
}
