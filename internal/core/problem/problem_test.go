package problem

import (
	"errors"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAnErrorSaysWhatHappenedAndWhatToDo(t *testing.T) {
	err := New(Do("restore", "gannet-rock.3").With("to", "DIR").Or(Advise("start the game once")), "%s cannot be read: %w", "slot 2", fs.ErrPermission)
	assert.Equal(t, "slot 2 cannot be read: permission denied", err.Error())
	assert.ErrorIs(t, err, fs.ErrPermission, "the cause can be asked for")
	var p *Error
	assert.True(t, errors.As(err, &p))
	assert.Equal(t, Hints{{Command: "restore", Args: []string{"gannet-rock.3"}, Options: []Option{{"to", "DIR"}}}, {Text: "start the game once"}}, p.Hints)
	assert.NotErrorIs(t, New(nil, "plain"), ErrUsage)
}

func TestKindsOfRefusal(t *testing.T) {
	for kind, make := range map[error]func(Hints, string, ...any) error{ErrBusy: Busy, ErrDeclined: Declined, ErrUsage: Usage} {
		err := make(nil, "slot %d", 2)
		assert.Equal(t, "slot 2", err.Error())
		for _, other := range []error{ErrBusy, ErrDeclined, ErrUsage} {
			assert.Equal(t, kind == other, errors.Is(err, other), "%v is %v", err, other)
		}
	}
}

func TestHintsAreBuiltStepByStep(t *testing.T) {
	h := Do("keep", "tidewrack").With("tag", "a", "b").With("always").Note("from now on").Or(nil, Do("look"), Advise("wait"))
	assert.Equal(t, Hints{
		{Command: "keep", Args: []string{"tidewrack"}, Options: []Option{{"tag", "a"}, {"tag", "b"}, {Name: "always"}}, Text: "from now on"},
		{Command: "look"}, {Text: "wait"},
	}, h)
}

func TestTheNearestNameIsSuggested(t *testing.T) {
	nearest := func(name string, names []string) string {
		if name == "tidewrak" {
			return "tidewrack"
		}
		return ""
	}
	names := []string{"night-run", "tidewrack"}
	assert.Equal(t, Advise("did you mean tidewrack?"), Near("tidewrak", names, nearest))
	assert.Equal(t, Advise("there are: night-run, tidewrack"), Near("else", names, nearest))
	assert.Nil(t, Near("else", nil, nearest))
}
