package call_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"

	"kanban/internal/wire/call"
)

func ExampleClient_Do() {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") == "" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		_, _ = w.Write([]byte("hello"))
	}))
	defer service.Close()
	client := call.New(call.Options{})
	request, _ := http.NewRequestWithContext(context.Background(), http.MethodGet, service.URL, nil)
	_, err := client.Do(context.Background(), request)
	problem, ok := call.As(err)
	fmt.Println(ok, problem.Kind == call.WrongCredential)
	request.Header.Set("Authorization", "Bearer x")
	answer, err := client.Do(context.Background(), request)
	fmt.Println(answer.Status, string(answer.Body), err)
	// Output:
	// true true
	// 200 hello <nil>
}
