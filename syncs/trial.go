package syncs

import (
	"context"
	"errors"
	"strings"

	"koinos/api"
	"koinos/core/jsondoc"
	"koinos/core/plan"
	"koinos/core/system"
	"koinos/core/tree"
	"koinos/remote"
)

// What a system says about a call of a dry run.
const (
	trialGood    = "good"
	trialRefused = "refused"
	trialUnknown = "unknown"
)

// trial asks a system whether it would do a step; nothing is stored there. It returns the words of a refusal.
func (o *opened) trial(ctx context.Context, step *plan.Step) (is, words string, err error) {
	switch {
	case step.Trial == "":
		return "", "", nil
	case step.Pending || step.Later:
		return trialUnknown, "", nil
	}
	between := "?"
	if strings.Contains(step.Path, "?") {
		between = "&"
	}
	_, err = o.client.Do(ctx, remote.Request{Method: step.Method, Body: step.Body, Match: step.Match, Reads: true,
		Address: system.Address(o.client.Base(), step.Path) + between + step.Trial})
	var problem *remote.Problem
	switch {
	case err == nil:
		return trialGood, "", nil
	case errors.As(err, &problem) && problem.Kind != remote.Away && problem.Kind != remote.Login:
		return trialRefused, problem.Why, nil
	}
	return "", "", err
}

// tryWrite shows the call that creates a record, and asks the system whether it would accept it, if it has a trial.
// Before that, it checks what the system says about its fields.
func (o *opened) tryWrite(ctx context.Context, r *system.Record, record []byte) (*api.PushStep, error) {
	if r.Write == nil {
		return nil, asked("The description says nothing of how %s is written (write).", r.Name)
	}
	root, _, err := jsondoc.Parse(record, 1)
	if err != nil || root == nil || root.Kind != tree.Object {
		return nil, asked("What is to be written is not a record in JSON: %v.", err)
	}
	var fields []system.TheirField
	if r.Fields != nil {
		if fields, err = o.told(ctx, r); err != nil {
			return nil, err
		}
	}
	rules := plan.New(r, fields...)
	if why := rules.Wrong(root, true, nil); len(why) > 0 {
		return nil, &blockedError{api.FieldWrong, why}
	}
	steps, err := rules.For(root, nil, false)
	var cannot *plan.Blocked
	if errors.As(err, &cannot) {
		return nil, blocked(api.CannotChange, "%s", cannot.Why)
	}
	if err != nil {
		return nil, err
	}
	out := pushStep(&steps[0])
	is, words, err := o.trial(ctx, &steps[0])
	if err != nil {
		return nil, err
	}
	if out.Trial = is; is == trialRefused {
		return nil, blocked(api.TargetRefused, "%s", words)
	}
	return &out, nil
}

func pushStep(s *plan.Step) api.PushStep {
	return api.PushStep{Does: s.Does, Method: s.Method, Path: s.Path, Body: s.Body, Changes: s.Changes, Later: s.Later,
		Creates: s.Kind == plan.Create, Warnings: s.Warnings}
}
