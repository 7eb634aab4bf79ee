"""The town of Tallowby: made-up street lamps, the model that says which will fail, and some traffic. All from seeds."""
