"""An optimizer for matrices: each step goes along the momentum with all its singular values made alike.

Source: K. Jordan et al. (2024), "Muon: an optimizer for hidden layers in neural networks"; the five rounds of a
Newton-Schulz iteration and their coefficients are from there. PyTorch has one too, whose rounds are done at 16 bits:
on processors without such arithmetic it took half of a training step here, this one less than a tenth.
"""

from collections import defaultdict
from collections.abc import Iterable

import torch
from torch import Tensor

ROUNDS, FIRST, THIRD, FIFTH = 5, 3.4445, -4.7750, 2.0315


class Orthogonal(torch.optim.Optimizer):
    """Momentum, made orthogonal; matrices of one shape go through the rounds together."""

    def __init__(self, matrices: Iterable[Tensor], *, lr: float, momentum: float, weight_decay: float) -> None:
        super().__init__(list(matrices), {"lr": lr, "momentum": momentum, "weight_decay": weight_decay})

    @torch.no_grad()
    def step(self) -> None:
        """One step; every matrix has its gradient."""
        for group in self.param_groups:
            alike: dict[torch.Size, list[tuple[Tensor, Tensor]]] = defaultdict(list)
            for matrix in group["params"]:
                mean = self.state[matrix].setdefault("mean", torch.zeros_like(matrix))
                mean.lerp_(matrix.grad, 1 - group["momentum"])
                alike[matrix.shape].append((matrix, matrix.grad.lerp(mean, group["momentum"])))
            for shape, pairs in alike.items():
                steps = orthogonal(torch.stack([wanted for _, wanted in pairs]))
                size = group["lr"] * max(1, shape[0] / shape[1]) ** 0.5
                for (matrix, _), taken in zip(pairs, steps, strict=True):
                    matrix.mul_(1 - group["lr"] * group["weight_decay"]).sub_(taken, alpha=size)


def orthogonal(matrices: Tensor) -> Tensor:
    """Count x rows x columns matrices, their singular values brought near 1."""
    tall = matrices.shape[1] > matrices.shape[2]
    x = matrices.mT if tall else matrices
    x = x / (x.norm(dim=(1, 2), keepdim=True) + 1e-7)
    for _ in range(ROUNDS):
        square = x @ x.mT
        x = torch.baddbmm(x, torch.baddbmm(square, square, square, beta=THIRD, alpha=FIFTH), x, beta=FIRST)
    return x.mT if tall else x
