package schedule

// heap gives back what was put in, the least first.
type heap[T any] struct {
	all  []T
	less func(a, b T) bool
}

func (h *heap[T]) put(x T) {
	h.all = append(h.all, x)
	for i := len(h.all) - 1; i > 0; {
		up := (i - 1) / 2
		if !h.less(h.all[i], h.all[up]) {
			return
		}
		h.all[i], h.all[up] = h.all[up], h.all[i]
		i = up
	}
}

// take gives the least; there must be one.
func (h *heap[T]) take() T {
	first, last := h.all[0], len(h.all)-1
	h.all[0] = h.all[last]
	h.all = h.all[:last]
	for i := 0; ; {
		least := i
		for down := 2*i + 1; down <= 2*i+2 && down < last; down++ {
			if h.less(h.all[down], h.all[least]) {
				least = down
			}
		}
		if least == i {
			return first
		}
		h.all[i], h.all[least] = h.all[least], h.all[i]
		i = least
	}
}
