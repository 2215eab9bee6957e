<script setup lang="ts">
/** Files from this computer; they are read here, and go nowhere by themselves. */
defineProps<{ text: string; accept: string; multiple?: boolean }>()
const emit = defineEmits<{ chosen: [File] }>()
const chosen = ({ raw }: { raw?: File }) => raw && emit('chosen', raw)
</script>

<template>
  <ElUpload :auto-upload="false" :show-file-list="false" :accept="accept" :multiple="multiple" :on-change="chosen">
    <span class="text">{{ text }}</span>
  </ElUpload>
</template>

<style scoped>
.text {
  display: inline-block;
  border: 1px solid var(--edge);
  border-radius: 2px;
  padding: 5px 14px;
  background: var(--sheet);
}
</style>
