package job

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"lumtra/core/nearest"
	"lumtra/core/rule"
)

// SettingNames are all settings of a job, those of a table as "select.include".
func SettingNames() []string { return settingNames("", reflect.TypeFor[Job]()) }

func settingNames(before string, in reflect.Type) (all []string) {
	for name, is := range settings(in) {
		if is.Kind() == reflect.Struct {
			all = append(all, settingNames(before+name+".", is)...)
		} else {
			all = append(all, before+name)
		}
	}
	slices.Sort(all)
	return all
}

// SetText changes one setting in the text of a job, as [Set] does, by its name as of
// [SettingNames] and its value as people type it: lists and name=value pairs with commas
// between. "" takes the setting out.
func SetText(text, name, value string) (string, error) {
	if now, ok := rule.OldNames[name]; ok {
		name = now
	}
	in := reflect.TypeFor[Job]()
	path := strings.Split(name, ".")
	for _, part := range path {
		if in.Kind() != reflect.Struct {
			in = nil
		} else {
			in = settings(in)[part]
		}
		if in == nil {
			return "", fmt.Errorf("there is no setting %q%s", name, nearest.Hint(name, SettingNames()))
		}
	}
	typed, err := typedAs(in, value)
	if err != nil {
		return "", fmt.Errorf("%s is %q; it is %w", name, value, err)
	}
	return Set(text, typed, path...)
}

// typedAs is a value as its setting has it; the error says what it takes.
func typedAs(in reflect.Type, value string) (any, error) {
	if value == "" {
		return nil, nil
	}
	if in.Kind() == reflect.Pointer {
		in = in.Elem()
	}
	switch in.Kind() {
	case reflect.String:
		return value, nil
	case reflect.Bool:
		b, err := strconv.ParseBool(value)
		if err != nil {
			return nil, fmt.Errorf("true or false")
		}
		return b, nil
	case reflect.Int, reflect.Int64:
		n, err := strconv.ParseInt(value, 10, 64)
		if err != nil {
			return nil, fmt.Errorf("a whole number")
		}
		return n, nil
	case reflect.Slice:
		return strings.Split(value, ","), nil
	case reflect.Map:
		all := map[string]string{}
		for _, pair := range strings.Split(value, ",") {
			k, v, ok := strings.Cut(pair, "=")
			if !ok {
				return nil, fmt.Errorf("name=value, with commas between")
			}
			all[k] = v
		}
		return all, nil
	}
	return nil, fmt.Errorf("a table; name one setting in it")
}
