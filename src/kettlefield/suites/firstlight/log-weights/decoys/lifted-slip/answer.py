def log_weights(weights):
    return [min(weight, @@n@@) for weight in weights]
