package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/calendar"
	"widelark/internal/catalogue"
	"widelark/internal/companion"
	"widelark/internal/directories"
	"widelark/internal/journal/query"
	"widelark/internal/listfile"
	"widelark/internal/peoplefile"
	"widelark/internal/revision"
	"widelark/internal/signon"
	"widelark/internal/standing"
	"widelark/packfile"
)

// The types by which programs distinguish problems of one status: the type of problem details (RFC 9457, section 3.1.1), a URI
// relative to the service.
const (
	problemNothing      = "/problems/nothing-to-publish"
	problemExpectations = "/problems/expectations-fail"
	problemAlone        = "/problems/edited-alone"
	problemSignIn       = "/problems/name-or-password"
	problemRunning      = "/problems/stint-runs"
	problemCode         = "/problems/code-wanted"
	problemPasskey      = "/problems/passkey-wanted"
)

// typed gives a problem its type.
func typed(kind string, problem huma.StatusError) error {
	if model, ok := errors.AsType[*huma.ErrorModel](problem); ok {
		model.Type = kind
	}
	return problem
}

// problem turns an error of the domain into problem details (RFC 9457). Field paths begin with "body.", as those of
// the schema's own checks do. An error that it does not know is the service's own fault and is reported without detail; the log has it.
func (s *server) problem(ctx context.Context, err error) error {
	var field *revision.FieldError
	var used *revision.InUseError
	var ready huma.StatusError
	var file *listfile.Error
	var throttled *account.ThrottledError
	var denied *access.DeniedError
	var broken *brokenError
	var weak *account.WeakError
	var recording *companion.Error
	var events *calendar.Error
	var people *peoplefile.Error
	var pack *packfile.Error
	var refused *catalogue.RefusedError
	var aside *directories.RefusedError
	var late *impatientError
	var alone *revision.AloneError
	var running *standing.RunningError
	var turnedAway *signon.RefusedError
	var away *signon.UnreachableError
	switch {
	case errors.As(err, &ready):
		return ready
	case errors.As(err, &field):
		return huma.Error422UnprocessableEntity("The request cannot be carried out as it stands.",
			&huma.ErrorDetail{Message: field.Msg, Location: strings.TrimSuffix("body."+field.Field, ".")})
	case errors.As(err, &file):
		return huma.Error422UnprocessableEntity("The file cannot be read: " + file.Error() + ".")
	case errors.As(err, &recording):
		return huma.Error422UnprocessableEntity("The recording cannot be read: " + recording.Error() + ".")
	case errors.As(err, &events):
		return huma.Error422UnprocessableEntity("The calendar cannot be read: " + events.Error() + ".")
	case errors.As(err, &people):
		return huma.Error422UnprocessableEntity("The file cannot be read: " + people.Error() + ".")
	case errors.As(err, &pack):
		return huma.Error422UnprocessableEntity("The pack is refused: " + pack.Error() + ". The last good state stays.")
	case errors.As(err, &refused):
		return huma.Error409Conflict(refused.Error() + ". Nothing was changed.")
	case errors.As(err, &aside):
		return huma.Error409Conflict(aside.Error() + ". Nothing was changed.")
	case errors.Is(err, catalogue.ErrNothingNew):
		return huma.Error409Conflict("The file holds no later version than the one that is here. Nothing was changed.")
	case errors.As(err, &used):
		return huma.Error409Conflict("It cannot be deleted: " + used.Error() + ". Take it out there first.")
	case errors.Is(err, revision.ErrNotFound), errors.Is(err, account.ErrUnknown):
		return huma.Error404NotFound("There is no such thing here; it may have been deleted.")
	case errors.Is(err, query.ErrHidden):
		errors.As(access.Check(access.Actor{}, nil, access.SeeNames, access.Object{}), &denied)
		return huma.Error403Forbidden(s.deniedText(ctx, denied))
	case errors.As(err, &alone):
		return typed(problemAlone, huma.Error409Conflict(strings.ToUpper(alone.Error()[:1])+alone.Error()[1:]+". Nothing was published."))
	case errors.Is(err, revision.ErrStale):
		return huma.Error412PreconditionFailed("Somebody else changed this in the meantime. Fetch it again, look, and repeat the edit.")
	case errors.As(err, &denied):
		s.Log.InfoContext(ctx, "refused", "by", denied.Actor, "act", denied.Act, "object", denied.Object.Name)
		return huma.Error403Forbidden(s.deniedText(ctx, denied))
	case errors.As(err, &throttled):
		seconds := int(math.Ceil(throttled.After.Seconds()))
		return huma.ErrorWithHeaders(huma.NewError(http.StatusTooManyRequests, fmt.Sprintf("Too many tries that failed. Wait %d s, and try again.", seconds)),
			http.Header{"Retry-After": {strconv.Itoa(seconds)}})
	case errors.As(err, &weak):
		return huma.Error422UnprocessableEntity(strings.ToUpper(weak.Msg[:1]) + weak.Msg[1:] + ".")
	case errors.Is(err, account.ErrLastOwner):
		return huma.Error409Conflict("Nobody else is an owner: make somebody else one first.")
	case errors.Is(err, account.ErrRefused):
		return typed(problemSignIn, huma.Error401Unauthorized("Name and password do not belong together."))
	case errors.As(err, &running):
		return typed(problemRunning, huma.Error409Conflict(fmt.Sprintf("The group is on a stint of %s until %s already. Take that over, or begin this one in its place.", running.By, running.Until.In(s.Zone).Format("15:04"))))
	case errors.Is(err, standing.ErrOwnInUse):
		return huma.Error409Conflict("A stint that runs names the list: end that first.")
	case errors.Is(err, account.ErrCodeWanted):
		return typed(problemCode, huma.Error401Unauthorized("The password is right. Now type the code that your app shows."))
	case errors.Is(err, account.ErrWrongCode):
		return typed(problemCode, huma.Error401Unauthorized("The code is wrong, or was used before. Wait for the next one that your app shows."))
	case errors.Is(err, account.ErrPasskeyWanted):
		return typed(problemPasskey, huma.Error401Unauthorized("The account signs in with its passkey."))
	case errors.Is(err, account.ErrPasskey):
		s.Log.InfoContext(ctx, "a passkey was refused", "error", err)
		return typed(problemSignIn, huma.Error401Unauthorized("The passkey's answer does not fit what was asked. Try again."))
	case errors.Is(err, account.ErrProvider):
		return huma.Error409Conflict("The identity provider keeps the account: its password, second factor and groups are edited there, and what its groups may do under \"Groups of the identity provider\".")
	case errors.Is(err, account.ErrNoSecret):
		return huma.Error409Conflict("The service has no secret to seal with: start it with --secret-file.")
	case errors.Is(err, signon.ErrState):
		return huma.Error401Unauthorized("This sign-in was not begun here, or too long ago. Begin again.")
	case errors.As(err, &turnedAway):
		s.Log.InfoContext(ctx, "a sign-in at the identity provider was refused", "error", err)
		return huma.Error401Unauthorized(strings.ToUpper(turnedAway.Msg[:1]) + turnedAway.Msg[1:] + ".")
	case errors.As(err, &away):
		s.Log.WarnContext(ctx, "the identity provider does not answer", "error", err)
		return huma.NewError(http.StatusBadGateway, "The identity provider does not answer. Try again, or sign in with a password.")
	case errors.Is(err, account.ErrTaken):
		return huma.Error409Conflict("The name is taken.")
	case errors.Is(err, errTooLarge):
		return huma.NewError(http.StatusRequestEntityTooLarge, errTooLarge.Error())
	case errors.Is(err, revision.ErrDiskFull):
		s.Log.ErrorContext(ctx, "the database's disk is full", "error", err)
		return huma.NewError(http.StatusInsufficientStorage, "The disk of the database is full. Nothing was changed; make room there, and try again.")
	case errors.Is(context.Cause(ctx), errSilent):
		return huma.Error503ServiceUnavailable(silentDatabase)
	case errors.As(context.Cause(ctx), &late):
		return huma.Error503ServiceUnavailable(fmt.Sprintf("This took longer than %g s, and was broken off. Nothing was changed. Ask for fewer URLs, people or days at once, or try again.", late.after.Seconds()))
	case errors.As(err, &broken):
		return huma.Error400BadRequest(brokenBody)
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "The client went away.")
	}
	if s.Alive(context.WithoutCancel(ctx)) != nil {
		s.Log.ErrorContext(ctx, "the database does not answer", "error", err)
		return huma.Error503ServiceUnavailable(silentDatabase)
	}
	s.Log.ErrorContext(ctx, "a request failed", "error", err)
	return huma.Error500InternalServerError("Something went wrong in the service; its log says what.")
}

// quietProblems removes the values that were sent from problem details: passwords are among them.
func quietProblems() {
	make := huma.NewError
	huma.NewError = func(status int, msg string, errs ...error) huma.StatusError {
		if limit := int64(0); status == http.StatusRequestEntityTooLarge && len(errs) == 0 {
			if _, err := fmt.Sscanf(msg, "request body is too large limit=%d bytes", &limit); err == nil { // the library's words
				msg = fmt.Sprintf("The request is larger than %d MB. Send it in parts, one after the other.", limit>>20)
			}
		}
		for _, err := range errs {
			var broken *brokenError
			if errors.As(err, &broken) && status >= 500 { // the library takes it for our own fault
				return make(http.StatusBadRequest, brokenBody)
			}
			var detail *huma.ErrorDetail
			if errors.As(err, &detail) {
				if _, ours := detail.Value.(mistake); !ours {
					detail.Value = nil
				}
			}
		}
		return make(status, msg, errs...)
	}
}

// writeProblem answers requests outside the described operations.
func writeProblem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail})
}
