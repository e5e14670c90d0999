package testpkg

import "strings"

// Called finds the cases that a name means: the one that has it, else those whose function has it. None: words are the names that there are.
func Called(cases []Case, name string) (found, words []string) {
	for _, c := range cases {
		if c.Name == name {
			return []string{name}, nil
		}
		if words = append(words, c.Name, c.Func); strings.HasSuffix(c.Name, "."+name) {
			found = append(found, c.Name)
		}
	}
	return found, words
}
