package client_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"

	"moorwatch.example/client"
)

// A list is gone through page after page, as long as somebody wants more.
func Example() {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if r.URL.Query().Get("cursor") == "" {
			fmt.Fprint(w, `{"items": [{"id": "5f0c7a9e-2f61-4a55-8f5e-6d3c0a3a1b01", "name": "hay-desk-01"}], "next": "more"}`)
			return
		}
		fmt.Fprint(w, `{"items": [{"id": "5f0c7a9e-2f61-4a55-8f5e-6d3c0a3a1b02", "name": "hay-desk-02"}]}`)
	}))
	defer service.Close()
	c, err := client.New(client.Options{URL: service.URL, Token: "mw-token"})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer c.Close()
	for d, err := range c.Devices(context.Background(), `os == "windows"`) {
		fmt.Println(d.Name, err)
	}
	// Output:
	// hay-desk-01 <nil>
	// hay-desk-02 <nil>
}
