package query

import (
	"context"
	"slices"
	"strings"
	"unicode"
)

// Completion is what could stand at a place of a query.
type Completion struct {
	From, To int // the characters that a choice takes the place of
	Choices  []Choice
}

// Choice is one of the texts that could stand there.
type Choice struct{ Text, About string }

// Complete returns what could stand where the cursor is, which is in characters; below 0 for the end. There are limit choices at most.
func Complete(ctx context.Context, text string, cursor, limit int, w World) (c Completion, err error) {
	letters := []rune(text)
	if cursor < 0 || cursor > len(letters) {
		cursor = len(letters)
	}
	begin, colon, value, quoted := 0, -1, -1, false
	for i, r := range letters[:cursor] {
		switch {
		case r == '"' && (i == 0 || letters[i-1] != '\\'):
			quoted = !quoted
		case quoted:
		case unicode.IsSpace(r) || r == '(' || r == ')' || r == '-' && i == begin:
			begin, colon = i+1, -1
		case r == ':' && colon < 0:
			colon, value = i, i+1
		case r == ',' && colon >= 0:
			value = i + 1
		}
	}
	c.To = cursor
	if colon < 0 {
		c.From = begin
		typed := strings.ToLower(string(letters[begin:cursor]))
		for _, name := range fieldNames {
			if strings.HasPrefix(name, typed) && len(c.Choices) < limit && !w.View.Hides(name) {
				c.Choices = append(c.Choices, Choice{name + ":", fields[name].what})
			}
		}
		return c, nil
	}
	c.From = value
	name := strings.ToLower(string(letters[begin:colon]))
	f, ok := fields[name]
	if !ok || w.View.Hides(name) {
		return c, nil
	}
	typed := strings.ToLower(strings.Trim(string(letters[value:cursor]), `"`))
	add := func(text, about string) {
		if len(c.Choices) < limit && !slices.ContainsFunc(c.Choices, func(known Choice) bool { return known.Text == text }) {
			c.Choices = append(c.Choices, Choice{text, about})
		}
	}
	if SaysWho(name) && !w.View.Names { // it would tell who there is
		return c, nil
	}
	if f.sort != "" {
		names, err := w.Names.Beginning(ctx, f.sort, typed, limit)
		for _, one := range names {
			add(Value{Text: one}.String(), "")
		}
		return c, err
	}
	for _, one := range f.known {
		if strings.HasPrefix(strings.ToLower(one), typed) {
			add(Value{Text: one}.String(), "")
		}
	}
	switch name {
	case "category":
		for _, one := range w.Taxonomy.Categories {
			if strings.HasPrefix(one.Key, typed) || strings.HasPrefix(strings.ToLower(one.Name), typed) {
				add(one.Key, one.Name)
			}
		}
	case "family":
		for _, one := range w.Taxonomy.Families {
			if strings.HasPrefix(one.Key, typed) || strings.HasPrefix(strings.ToLower(one.Name), typed) {
				add(one.Key, one.Name)
			}
		}
	case "since", "until":
		for _, one := range [][2]string{{"1h", "an hour ago"}, {"24h", "a day ago"}, {"today", "when today began"}, {"yesterday", "when yesterday began"}, {"7d", "a week ago"}, {"30d", "thirty days ago"}} {
			if strings.HasPrefix(one[0], typed) {
				add(one[0], one[1])
			}
		}
	}
	return c, nil
}
