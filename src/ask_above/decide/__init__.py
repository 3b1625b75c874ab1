"""What follows for one question: ranks held, capabilities held, and who stands above whom."""
