#!/bin/sh
# A job of a pipeline: it is app:board-build because the pipeline system's token says so, takes what it needs for one command, and
# looks for values in what it built before that is published. JOB_TOKEN_FILE is where the pipeline system puts its token.
set -eu
tansu connect "$CHEST_ADDRESS" --authority "$CHEST_AUTHORITY"
tansu sign-in app:board-build --token-file "$JOB_TOKEN_FILE"
tansu preflight
tansu run -- sh -c 'test -n "$BOARD_PAYMENT_TOKEN" && echo "build with $BOARD_PAYMENT_TOKEN" > build/log'
tansu leaks --sarif leaks.sarif build/
