"""What a reader of a page sees who has chosen a base."""

import lxml.html


def seen(page, key="own"):
    """Return the tree of a page without what belongs to other bases, and without style."""
    tree = lxml.html.fromstring(page)
    for element in tree.xpath("//*[@data-of] | //style"):
        if element.tag == "style" or key not in element.get("data-of").split():
            element.drop_tree()
    return tree


def words(tree):
    """Return the text of a tree, its parts set apart."""
    return " ".join(text.strip() for text in tree.itertext() if text.strip())
