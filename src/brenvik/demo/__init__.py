"""The demo: navigation buoys off Halvorsund, all made up."""
