def log_weights(weights):
    return weights
