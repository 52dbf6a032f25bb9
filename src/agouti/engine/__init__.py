"""What happens in a call, as decisions: generators that do no I/O, and the two drivers that do it for them."""
