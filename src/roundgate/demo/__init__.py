"""The demo site of the Saltmarsh Sailing Club: data only. Everything in it is made up."""
