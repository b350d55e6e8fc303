package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/report"
	"koinos/jobs"
	"koinos/load"
	"koinos/store"
)

// problemKinds are the codes of the API's problems; docs/api.md lists them.
var problemKinds = map[string]struct {
	status int
	title  string
}{
	"invalid_request":     {http.StatusUnprocessableEntity, "The request is not valid"},
	"not_found":           {http.StatusNotFound, "There is no such thing here"},
	"method_not_allowed":  {http.StatusMethodNotAllowed, "That cannot be done here"},
	"document_unreadable": {http.StatusUnprocessableEntity, "The document cannot be read"},
	"mapping_invalid":     {http.StatusUnprocessableEntity, "The mapping has mistakes"},
	"too_large":           {http.StatusRequestEntityTooLarge, "The request is too large"},
	"hook_refused":        {http.StatusUnauthorized, "The webhook is not believed"},
	"login_needed":        {http.StatusUnauthorized, "An access token is needed"},
	"not_allowed":         {http.StatusForbidden, "The access token does not allow this"},
	"host_refused":        {http.StatusForbidden, "The request came under a name that is not this service's"},
	"origin_refused":      {http.StatusForbidden, "Another web site made this request"},
	"taken_away":          {http.StatusGone, "It is not kept any more"},
	"not_running":         {http.StatusConflict, "The load is not running"},
	"line_needed":         {http.StatusUnprocessableEntity, "The field belongs to lines"},
	"order_held":          {http.StatusUnprocessableEntity, "Warnings hold it"},
	"changed_meanwhile":   {http.StatusPreconditionFailed, "The order has changed meanwhile"},
	"order_refused":       {http.StatusUnprocessableEntity, "The order was refused"},
	"not_now":             {http.StatusConflict, "That cannot be done with this interchange"},
	"sync_invalid":        {http.StatusUnprocessableEntity, "The sync has mistakes"},
	"system_invalid":      {http.StatusUnprocessableEntity, "The description has mistakes"},
	"system_trouble":      {http.StatusBadGateway, "The system did not do what was asked"},
	"partner_invalid":     {http.StatusUnprocessableEntity, "The partner's description is wrong"},
	"no_orders":           {http.StatusConflict, "The load found no orders"},
	"not_paused":          {http.StatusConflict, "The load is not paused"},
	"not_ended":           {http.StatusConflict, "The load has not ended"},
	"in_use":              {http.StatusConflict, "Something uses it"},
	"name_taken":          {http.StatusConflict, "The name is taken"},
	"key_in_use":          {http.StatusConflict, "The request is being answered already"},
	"key_reused":          {http.StatusUnprocessableEntity, "The Idempotency-Key was used for another request"},
	"busy":                {http.StatusTooManyRequests, "Too much is asked for at once"},
	"stopping":            {http.StatusServiceUnavailable, "The service is stopping"},
	"storage_failed":      {http.StatusInsufficientStorage, "The store could not be written"},
	"internal":            {http.StatusInternalServerError, "Something went wrong here"},
}

func problem(code, detail string) *api.Problem {
	k := problemKinds[code]
	return &api.Problem{Type: "tag:koinos.example,2026:" + code, Title: k.title, Status: k.status, Code: code,
		Detail: detail}
}

// frameworkCodes are the codes for what the framework finds wrong, by status.
var frameworkCodes = map[int]string{http.StatusBadRequest: "invalid_request",
	http.StatusUnprocessableEntity: "invalid_request", http.StatusUnsupportedMediaType: "invalid_request",
	http.StatusNotAcceptable: "invalid_request", http.StatusNotFound: "not_found",
	http.StatusMethodNotAllowed: "method_not_allowed", http.StatusRequestEntityTooLarge: "too_large",
	http.StatusUnauthorized: "login_needed", http.StatusForbidden: "not_allowed",
	http.StatusServiceUnavailable: "stopping", http.StatusTooManyRequests: "busy",
	http.StatusInsufficientStorage: "storage_failed",
	http.StatusBadGateway:          "system_trouble"}

// fromFramework turns what the framework finds wrong with a request into a problem.
func fromFramework(status int, message string, errs ...error) huma.StatusError {
	code := frameworkCodes[status]
	if code == "" {
		code = "internal"
	}
	if message == "validation failed" { // the framework's words; what follows says what is wrong with which
		message = "Some of its values are not allowed."
	}
	p := problem(code, message)
	p.Status = status
	for _, err := range errs {
		var inner *api.Problem
		if errors.As(err, &inner) {
			return inner
		}
		var tooLarge *http.MaxBytesError
		if errors.As(err, &tooLarge) {
			return problem("too_large", bodyLimit(tooLarge))
		}
		var d *huma.ErrorDetail
		if errors.As(err, &d) {
			p.Invalid = append(p.Invalid, api.Invalid{Where: d.Location, Message: d.Message})
		} else if err != nil {
			p.Invalid = append(p.Invalid, api.Invalid{Message: err.Error()})
		}
	}
	return p
}

func init() {
	huma.NewError = fromFramework
	huma.DefaultArrayNullable = false // lists are never null in answers
}

// fail turns an error of the store or engine into a problem.
func (s *Service) fail(ctx context.Context, err error) error {
	var p *api.Problem
	var tooLarge *http.MaxBytesError
	var which *load.ErrWhichLine
	var gone *store.TakenAway
	found := finding.Of(err)
	switch {
	case err == nil:
		return nil
	case errors.As(err, &p):
		return p
	case errors.Is(err, store.ErrNotFound):
		return problem("not_found", "There is no "+strings.TrimSuffix(err.Error(), ": "+store.ErrNotFound.Error())+
			" here.")
	case errors.As(err, &gone):
		return problem("taken_away", finding.Capital(gone.Error())+".")
	case errors.As(err, &tooLarge):
		return problem("too_large", bodyLimit(tooLarge))
	case errors.Is(err, jobs.ErrStopping):
		return problem("stopping", "Try again when it is back.")
	case errors.As(err, &which):
		return problem("line_needed", strings.ToUpper(which.Error()[:1])+which.Error()[1:]+".")
	case errors.Is(err, load.ErrNotPaused):
		return problem("not_paused", "Only a paused load can be resumed.")
	case errors.Is(err, load.ErrRunning):
		return problem("not_ended", "Wait for its end, or cancel it.")
	case errors.Is(err, store.ErrInProgress):
		return problem("key_in_use",
			"A request with this Idempotency-Key has not been answered yet; send it again in a moment.")
	case errors.Is(err, store.ErrOtherUse):
		return problem("key_reused", "Take a new Idempotency-Key for every new piece of work.")
	case errors.Is(err, report.ErrNotMarked):
		return problem("invalid_request", report.ErrNotMarked.Error()+".")
	case errors.Is(err, load.ErrNotRunning):
		return problem("not_running", "It has ended already.")
	case len(found) > 0:
		code := "document_unreadable"
		if strings.HasPrefix(string(found[0].Code), "mapping_") {
			code = "mapping_invalid"
		}
		if found[0].Code == finding.PartnerInvalid {
			code = "partner_invalid"
		}
		p := problem(code, "")
		p.Findings = found
		return p
	case store.Blocked(err) != "":
		s.log.ErrorContext(ctx, "storage failed", "error", err, "request", requestID(ctx))
		return problem("storage_failed", finding.Capital(store.Blocked(err))+
			"; nothing was lost that had been accepted. Try again later.")
	}
	s.log.ErrorContext(ctx, "request failed", "error", err, "request", requestID(ctx))
	return problem("internal", "The service's log has the details under the request id.")
}

// abort answers a request outside of the typed handlers.
func abort(c *gin.Context, p *api.Problem) {
	p.Request = requestID(c)
	c.Header("Content-Type", p.ContentType(""))
	if p.Status == http.StatusUnauthorized {
		c.Header("WWW-Authenticate", `Bearer realm="Koinos"`)
	}
	c.AbortWithStatusJSON(p.Status, p)
}

// mostFindings is how many findings a problem lists.
const mostFindings = 1_000

// because adds to a problem what was found, the errors first where there is too much of it.
func because(p *api.Problem, found []finding.Finding) *api.Problem {
	if len(found) > mostFindings {
		found = slices.Clone(found)
		slices.SortStableFunc(found, func(a, b finding.Finding) int {
			return strings.Compare(string(a.Severity), string(b.Severity)) // error, warning
		})
		p.Detail += fmt.Sprintf(" These are the first %d of %d.", mostFindings, len(found))
		found = found[:mostFindings]
	}
	p.Findings = found
	return p
}
