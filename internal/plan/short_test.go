package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kettlehole/internal/plan"
)

func TestShort(t *testing.T) {
	assert.Equal(t, "council-1..3, gate-1", plan.Short([]string{"council-1", "council-2", "council-3", "gate-1"}))
	assert.Equal(t, "a-1, a-3..4, lone", plan.Short([]string{"a-1", "a-3", "a-4", "lone"}))
	assert.Empty(t, plan.Short(nil))
}
