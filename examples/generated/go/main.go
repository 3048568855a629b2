// Reads a value as an app, with a client that oapi-codegen has made of the interface's description, and says how many bytes it has.
//
//	OPENAPI=../../../internal/httpapi/openapi.yaml go generate
//	TANSU_ADDRESS=… TANSU_APP=ticket-api TANSU_SECRET_FILE=… go run . ticketing-prod/db-password
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/oapi-codegen/oapi-codegen/v2/pkg/securityprovider"

	"harbour.example/generated/tansu"
)

//go:generate go tool oapi-codegen -generate types,client -package tansu -o tansu/client.go $OPENAPI

func main() {
	if err := read(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func read(reference string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	client, err := tansu.NewClientWithResponses(os.Getenv("TANSU_ADDRESS"))
	if err != nil {
		return err
	}
	secret, err := os.ReadFile(os.Getenv("TANSU_SECRET_FILE"))
	if err != nil {
		return err
	}
	app, proof := os.Getenv("TANSU_APP"), strings.TrimSpace(string(secret))
	signedIn, err := client.IssueTokenWithFormdataBodyWithResponse(ctx, tansu.IssueTokenFormdataRequestBody{
		GrantType: tansu.ClientCredentials, ClientId: &app, ClientSecret: &proof})
	if err != nil {
		return err
	}
	if signedIn.JSON200 == nil {
		return errors.New("not signed in: " + signedIn.Status())
	}
	bearer, err := securityprovider.NewSecurityProviderBearerToken(signedIn.JSON200.AccessToken)
	if err != nil {
		return err
	}
	drawer, item, _ := strings.Cut(reference, "/")
	value, err := client.ReadValueWithResponse(ctx, drawer, item, &tansu.ReadValueParams{}, bearer.Intercept)
	if err != nil {
		return err
	}
	if problem := value.ApplicationproblemJSONDefault; problem != nil {
		receipt := ""
		if problem.Receipt != nil {
			receipt = " (receipt " + *problem.Receipt + ")"
		}
		return errors.New(problem.Detail + receipt)
	}
	if value.JSON200 == nil {
		return errors.New(value.Status())
	}
	fmt.Printf("%s has %d bytes\n", value.JSON200.Reference, len(value.JSON200.Value))
	return nil
}
