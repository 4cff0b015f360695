"""The computation of Mudanza. It prints nothing, asks nothing and exits nowhere."""
