"""The command line: parse, call one operation, show. The only room that knows Click and Rich."""

import gc

# What a command imports and makes mostly stays until it ends: to look for garbage among the 150,000 objects of ten
# thousand devices takes a third of the time. Set here, before the command line imports anything.
gc.set_threshold(200_000, 20, 20)
