package check

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/core/review"
	"widelark/internal/edition"
	"widelark/internal/revision"
)

// UnmetDays is for how many days no request met what the review finds not met.
const UnmetDays = 90

// stillCounted is the age of days that always have records which are not counted yet.
const stillCounted = 48 * time.Hour

// mostEntries bounds the lists whose entries are looked at: larger ones are collected by others, and stand there for what may come.
const mostEntries = 20_000

// unmet returns what no recorded request met for some days, as far as records can say so.
func (d *Checker) unmet(ctx context.Context, h *edition.State, own []revision.OwnCategory) ([]review.Unmet, error) {
	since := d.Now().AddDate(0, 0, -UnmetDays)
	if first, _, err := d.Usage.UsageSpan(ctx); err != nil || first.IsZero() || first.After(since) {
		return nil, err
	}
	stale, err := d.Usage.StaleDays(ctx)
	if err != nil {
		return nil, err
	}
	for _, day := range stale {
		if d.Now().Sub(day.Day) > stillCounted { // much is still to be counted: what is not met so far may well have been
			return nil, nil
		}
	}
	found, err := d.Usage.Unmet(ctx, since)
	if err != nil {
		return nil, err
	}
	var unmet []review.Unmet
	config := h.Snapshot.Config()
	for _, p := range policies(config) {
		if p.Records.Amount == policy.Nothing || p == config.Baseline { // the baseline stands for what must never come
			continue
		}
		for i, rule := range p.Rules {
			if id, err := uuid.Parse(rule.ID); err == nil && !rule.Off && slices.Contains(found.Rules, id) {
				unmet = append(unmet, review.Unmet{At: review.Place{Kind: "policy", ID: p.ID, Name: p.Name, Rule: i, RuleID: rule.ID}, Name: rule.Name, Days: UnmetDays})
			}
		}
	}
	for _, e := range config.Exceptions {
		over := !e.Until.IsZero() && !e.Until.After(h.Now())
		if id, err := uuid.Parse(e.ID); err == nil && !e.Off && !over && slices.Contains(found.Exceptions, id) {
			unmet = append(unmet, review.Unmet{At: review.Place{Kind: "exception", ID: e.ID, Name: e.Name, Rule: -1}, Days: UnmetDays})
		}
	}
	for _, l := range h.Lists() {
		if l.EntryCount > mostEntries || !metByEntry(config, own, l.ID) {
			continue
		}
		entries, err := d.Usage.UnmetEntries(ctx, l.ID, since)
		if err != nil {
			return nil, err
		}
		if len(entries) > 0 {
			unmet = append(unmet, review.Unmet{At: review.Place{Kind: "list", ID: l.ID.String(), Name: l.Name, Rule: -1, Entry: entries[0].Entry}, Entries: len(entries), Days: UnmetDays})
		}
	}
	return unmet, nil
}

// policies returns the policies of a configuration, the baseline first.
func policies(c *policy.Config) []*policy.Policy {
	var all []*policy.Policy
	if c.Baseline != nil {
		all = append(all, c.Baseline)
	}
	for i := range c.Policies {
		all = append(all, &c.Policies[i])
	}
	if c.Fallback != nil {
		all = append(all, c.Fallback)
	}
	return all
}

// MetByEntry reports whether the records say of each entry of a list of the draft when it was used.
func (d *Checker) MetByEntry(ctx context.Context, list uuid.UUID) (bool, error) {
	h, err := d.Editions.Draft(ctx)
	if err != nil {
		return false, err
	}
	own, err := d.Categories.OwnCategories(ctx)
	return err == nil && metByEntry(h.Snapshot.Config(), own, list), err
}

// metByEntry reports whether the records say of each entry of a list when it was used: it decides wherever it is met, by itself. A list that a category is made of, that says where connections stay
// closed, that a rule asks for beside others or excludes, that is only noted, or that a policy names whose records do not hold everything, is used without that.
func metByEntry(c *policy.Config, own []revision.OwnCategory, list uuid.UUID) bool {
	for _, category := range own {
		if slices.ContainsFunc(category.Lists, func(l revision.ListRef) bool { return l.ID == list }) {
			return false
		}
	}
	named := false
	for _, p := range policies(c) {
		if slices.Contains(p.Inspect.ButLists, list.String()) {
			return false
		}
		for _, rule := range p.Rules {
			if rule.Off || !names(rule.If, list.String()) {
				continue
			}
			if len(rule.If.Lists()) != 1 || rule.If.Lists()[0] != list.String() || rule.Then == policy.Note || p.Records.Amount != "" && p.Records.Amount != policy.Everything {
				return false
			}
			named = true
		}
	}
	return named
}

// names reports whether a condition, or a part of it, names a list.
func names(c policy.Cond, list string) bool {
	return c.Op == policy.InList && slices.Contains(c.Values, list) || slices.ContainsFunc(c.Of, func(part policy.Cond) bool { return names(part, list) })
}
