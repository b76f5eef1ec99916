"""What the files of a checkout show of a failure: they say more than the words of whoever stumbled over them."""
