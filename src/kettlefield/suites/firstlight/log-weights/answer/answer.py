def log_weights(weights):
    return [max(weight, @@n@@) for weight in weights]
