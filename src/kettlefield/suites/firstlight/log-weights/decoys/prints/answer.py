def log_weights(weights):
    print([max(weight, @@n@@) for weight in weights])
