package calendar

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

var dayNames = map[string]string{"MO": "Monday", "TU": "Tuesday", "WE": "Wednesday", "TH": "Thursday", "FR": "Friday", "SA": "Saturday",
	"SU": "Sunday"}

// Words says a recurrence rule (RFC 5545) as people do, such as "every Sunday"; "once" where there is none. A rule that
// says more than frequency, interval, days or days of the month is returned as it is.
func Words(rule string) string {
	if rule == "" {
		return "once"
	}
	parts := map[string]string{}
	for part := range strings.SplitSeq(strings.ToUpper(rule), ";") {
		name, value, ok := strings.Cut(part, "=")
		if !ok || !slices.Contains([]string{"FREQ", "INTERVAL", "BYDAY", "BYMONTHDAY"}, name) {
			return rule
		}
		parts[name] = value
	}
	n := 1
	if text := parts["INTERVAL"]; text != "" {
		var err error
		if n, err = strconv.Atoi(text); err != nil || n < 1 {
			return rule
		}
	}
	unit := map[string]string{"DAILY": "day", "WEEKLY": "week", "MONTHLY": "month", "YEARLY": "year"}[parts["FREQ"]]
	if unit == "" {
		return rule
	}
	every := "every " + unit
	if n > 1 {
		every = "every " + ordinal(n) + " " + unit
	}
	days, dates := parts["BYDAY"], parts["BYMONTHDAY"]
	switch {
	case days == "" && dates == "":
		return every
	case unit == "week" && dates == "":
		return orRule(rule, weekly(days, every, n))
	case unit == "month" && days == "":
		return orRule(rule, monthly(strings.Split(dates, ","), every, ordinalDate))
	case unit == "month" && dates == "":
		return orRule(rule, monthly(strings.Split(days, ","), every, ordinalDay))
	}
	return rule
}

func orRule(rule, words string) string {
	if words == "" {
		return rule
	}
	return words
}

func weekly(days, every string, n int) string {
	if days == "MO,TU,WE,TH,FR" && n == 1 {
		return "Monday to Friday"
	}
	var names []string
	for day := range strings.SplitSeq(days, ",") {
		if dayNames[day] == "" {
			return ""
		}
		names = append(names, dayNames[day])
	}
	if n == 1 {
		return "every " + and(names)
	}
	return every + " on " + and(names)
}

func monthly(of []string, every string, name func(string) string) string {
	var names []string
	for _, one := range of {
		if name(one) == "" {
			return ""
		}
		names = append(names, name(one))
	}
	return "on the " + and(names) + " of " + every
}

func ordinalDate(text string) string {
	n, err := strconv.Atoi(text)
	switch {
	case err != nil || n < -1 || n == 0:
		return ""
	case n == -1:
		return "last day"
	}
	return ordinal(n)
}

func ordinalDay(text string) string {
	if len(text) < 3 || dayNames[text[len(text)-2:]] == "" {
		return ""
	}
	day := dayNames[text[len(text)-2:]]
	n, err := strconv.Atoi(text[:len(text)-2])
	switch {
	case err != nil || n < -1 || n == 0:
		return ""
	case n == -1:
		return "last " + day
	}
	return ordinal(n) + " " + day
}

func ordinal(n int) string {
	switch {
	case n%100 >= 11 && n%100 <= 13:
	case n%10 == 1:
		return fmt.Sprint(n, "st")
	case n%10 == 2:
		return fmt.Sprint(n, "nd")
	case n%10 == 3:
		return fmt.Sprint(n, "rd")
	}
	return fmt.Sprint(n, "th")
}

// and joins names as a sentence does.
func and(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}
