import {
  TextNode,
  type EditorConfig,
  type LexicalNode,
  type NodeKey,
  type SerializedTextNode,
} from 'lexical';

/** A whole node as it is kept in the clipboard. */
export type SerializedWhole = SerializedTextNode & { source: string };

/** A part of a text that is shown as what it means, and is moved and deleted as a whole. */
export abstract class WholeNode extends TextNode {
  __source: string;

  constructor(source = '', label = '', key?: NodeKey) {
    super(label || source, key);
    this.__source = source;
  }

  exportJSON(): SerializedWhole {
    return { ...super.exportJSON(), type: this.getType(), source: this.__source };
  }

  createDOM(config: EditorConfig) {
    const dom = super.createDOM(config);
    dom.title = this.__source;
    return dom;
  }

  /** What it stands for, as the sheet has it. */
  getSource() {
    return this.getLatest().__source;
  }

  isTextEntity() {
    return true;
  }

  canInsertTextBefore() {
    return false;
  }

  canInsertTextAfter() {
    return false;
  }
}

export const $isWhole = (node: LexicalNode | null | undefined): node is WholeNode =>
  node instanceof WholeNode;
