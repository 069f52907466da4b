package step

import (
	"errors"
	"time"
)

// Question is what a step asks a person before it goes on.
type Question struct {
	Step    string   `json:"step"` // that asks
	Text    string   `json:"text"`
	Answers []Choice `json:"answers"` // the first is the one that does least
	// Until is when it goes on by itself, as if the first had been given; the zero time for never.
	Until time.Time `json:"until,omitzero"`
	// Trouble tells that what the job does by itself does not work at present.
	Trouble bool `json:"trouble,omitempty"`
}

// Choice is an answer that a person can give.
type Choice struct {
	Name  string `json:"name"`
	Label string `json:"label"`
}

// Answer is the choice that was made.
type Answer struct {
	Step string `json:"step"` // that asked
	Name string `json:"name"`
}

// Has tells whether a choice is one of the question's.
func (q Question) Has(name string) bool {
	for _, c := range q.Answers {
		if c.Name == name {
			return true
		}
	}
	return false
}

// AskedError is the error of a step that goes on when somebody has answered. Err is why it asks.
type AskedError struct {
	Question Question
	Err      error
}

func (e *AskedError) Error() string { return e.Question.Text }

func (e *AskedError) Unwrap() error { return e.Err }

// Asked returns the question of an error, if it is one.
func Asked(err error) (Question, bool) {
	var asked *AskedError
	if !errors.As(err, &asked) {
		return Question{}, false
	}
	return asked.Question, true
}
