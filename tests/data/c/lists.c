/* Linked lists and a binary tree on the heap. */
#include <stdio.h>
#include <stdlib.h>
struct node { int key; struct node *left, *right; };
static struct node *insert(struct node *n, int key) {
    if (!n) { n = malloc(sizeof *n); n->key = key; n->left = n->right = 0; return n; }
    if (key < n->key) n->left = insert(n->left, key); else if (key > n->key) n->right = insert(n->right, key);
    return n;
}
static int walk(const struct node *n, int depth, int *deepest) {
    if (!n) return 0;
    if (depth > *deepest) *deepest = depth;
    return walk(n->left, depth + 1, deepest) + n->key * depth + walk(n->right, depth + 1, deepest);
}
int main(void) {
    struct node *root = 0; unsigned seed = 11; int deepest = 0;
    for (int i = 0; i < 300; i++) { seed = seed * 69069 + 1; root = insert(root, (int)(seed >> 20)); }
    int sum = walk(root, 1, &deepest);
    printf("%d %d\n", sum, deepest);
    return deepest;
}
