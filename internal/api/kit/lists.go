package kit

type List[T any] struct {
	Body struct {
		Items []T   `json:"items"`
		Next  int64 `json:"next" doc:"give this as before to read on; 0 at the end"`
	}
}

func ListOf[T any](items []T, next int64) *List[T] {
	out := &List[T]{}
	out.Body.Items, out.Body.Next = items, next
	if items == nil {
		out.Body.Items = []T{}
	}
	return out
}

type IDInput struct {
	ID int64 `path:"id"`
}
