package disks

import (
	"errors"
	"fmt"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// Answers to what is to be done about a source that cannot be read.
const (
	answerAgain = "again"
	answerZeros = "zeros"
)

// asking makes a question of an error of a source that cannot be read, where somebody can be asked: hours of copying are behind it, or a
// cable is loose.
func (w *work) asking(err error) error {
	var destination *transfer.DestinationError
	if !w.Asks || errors.As(err, &destination) || !storage.Unreadable(err) && !errors.Is(err, disk.ErrDamaged) {
		return err
	}
	return &step.AskedError{Err: err, Question: step.Question{
		Step: w.Log.ID(plan.StepFill),
		Text: fmt.Sprintf("Something of the source cannot be read: %v. What was copied so far stays.", err),
		Answers: []step.Choice{
			{Name: answerAgain, Label: "Try to read it again"},
			{
				Name:  answerZeros,
				Label: "Put zeros in the place of what cannot be read, here and further on: the copy is then damaged, and says where",
			},
		},
	}}
}

// heed goes by what somebody has answered.
func (w *work) heed() {
	if w.Answer.Step != w.Log.ID(plan.StepFill) {
		return
	}
	switch w.Answer.Name {
	case answerZeros:
		w.state.PastDamage = true
		w.remarkOnce("the source could not be read in places; the answer to what to do about it was to put zeros there")
	case answerAgain:
		w.remarkOnce("the source could not be read in places; the answer to what to do about it was to try again")
	}
}

// pastDamage tells whether zeros are put in the place of what cannot be read.
func (w *work) pastDamage() bool { return w.disk.Request.PastDamage || w.state.PastDamage }
