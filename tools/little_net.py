"""The little model in PyTorch, for training and for checking the NumPy runtime against it."""

import torch
from torch import Tensor, nn
from torch.nn import functional

from kettlefield.demo.little.little_weights import Shape


class Block(nn.Module):
    """Attention over what came before, then a gated feed-forward."""

    def __init__(self, shape: Shape) -> None:
        super().__init__()
        self.shape = shape
        kv_width = shape.kv_heads * shape.head_size
        self.attn_norm, self.ffn_norm = (
            nn.RMSNorm(shape.width, eps=shape.epsilon),
            nn.RMSNorm(shape.width, eps=shape.epsilon),
        )
        self.q, self.o = (
            nn.Linear(shape.width, shape.width, bias=False),
            nn.Linear(shape.width, shape.width, bias=False),
        )
        self.k, self.v = nn.Linear(shape.width, kv_width, bias=False), nn.Linear(shape.width, kv_width, bias=False)
        self.gate = nn.Linear(shape.width, shape.feed_forward, bias=False)
        self.up = nn.Linear(shape.width, shape.feed_forward, bias=False)
        self.down = nn.Linear(shape.feed_forward, shape.width, bias=False)

    def forward(self, x: Tensor, cos: Tensor, sin: Tensor) -> Tensor:
        """One layer; x is batch x length x width."""
        batch, length, width = x.shape
        h = self.attn_norm(x)
        split = (batch, length, -1, self.shape.head_size)
        q, k, v = (m(h).view(split).transpose(1, 2) for m in (self.q, self.k, self.v))
        seen = functional.scaled_dot_product_attention(
            turn(q, cos, sin), turn(k, cos, sin), v, is_causal=True, enable_gqa=True
        )
        x = x + self.o(seen.transpose(1, 2).reshape(batch, length, width))
        h = self.ffn_norm(x)
        return x + self.down(functional.silu(self.gate(h)) * self.up(h))


def turn(x: Tensor, cos: Tensor, sin: Tensor) -> Tensor:
    """Rotary positions: the first half of a head turned against the second."""
    a, b = x.chunk(2, dim=-1)
    return torch.cat((a * cos - b * sin, b * cos + a * sin), dim=-1)


class Net(nn.Module):
    """The whole model; embeddings serve as output matrix too."""

    def __init__(self, shape: Shape) -> None:
        super().__init__()
        self.shape = shape
        self.embed = nn.Embedding(shape.vocabulary, shape.width)
        self.blocks = nn.ModuleList(Block(shape) for _ in range(shape.layers))
        self.norm = nn.RMSNorm(shape.width, eps=shape.epsilon)
        for name, weight in self.named_parameters():
            if weight.ndim == 2:
                nn.init.normal_(weight, std=0.02 if "embed" in name else shape.width**-0.5)
        for block in self.blocks:
            nn.init.zeros_(block.o.weight)
            nn.init.zeros_(block.down.weight)

    def hidden(self, tokens: Tensor) -> Tensor:
        """Batch x length token numbers to batch x length x width, before the output matrix."""
        half = self.shape.head_size // 2
        speed = self.shape.rotary_base ** (-torch.arange(half, dtype=torch.float32) / half)
        angle = torch.outer(torch.arange(tokens.shape[1], dtype=torch.float32), speed)
        x = self.embed(tokens)
        for block in self.blocks:
            x = block(x, angle.cos(), angle.sin())
        return self.norm(x)

    def logits(self, hidden: Tensor) -> Tensor:
        """Scores of every token of the vocabulary."""
        return functional.linear(hidden, self.embed.weight)


def to_tensors(net: Net) -> dict[str, Tensor]:
    """The weights by the names that weights files use."""
    parts = {"attn_norm": "attn_norm", "ffn_norm": "ffn_norm", "attn_q": "q", "attn_k": "k", "attn_v": "v",
             "attn_output": "o", "ffn_gate": "gate", "ffn_up": "up", "ffn_down": "down"}  # fmt: skip
    found = {"token_embd.weight": net.embed.weight, "output_norm.weight": net.norm.weight}
    for number, block in enumerate(net.blocks):
        found |= {f"blk.{number}.{name}.weight": getattr(block, own).weight for name, own in parts.items()}
    return {name: weight.detach() for name, weight in found.items()}
