"""The command line: parse, call one operation, show. The only room that knows Click and Rich."""
